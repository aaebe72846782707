import { type KeyboardEvent, type MouseEvent, type ReactNode, useId, useLayoutEffect, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import { Unseen } from "./Unseen";

const Frame = styled.div`
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  overflow: auto;
  max-height: var(--grid-height, none);
`;

const Base = styled.table`
  width: 100%;
  border-collapse: collapse;
  &[data-fixed="true"] { table-layout: fixed; }
  th {
    position: sticky;
    top: 0;
    z-index: 1;
    background: ${({ theme }) => theme.color.surface};
    box-shadow: inset 0 -1px 0 ${({ theme }) => theme.color.line};
    text-align: left;
    font-size: ${({ theme }) => theme.size.small};
    font-weight: 600;
    color: ${({ theme }) => theme.color.inkSoft};
    padding: 7px 8px;
    white-space: nowrap;
    cursor: default;
  }
  td { padding: 6px 8px; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; max-width: 340px; }
  tr + tr td { border-top: 1px solid ${({ theme }) => theme.color.sunken}; }
  [data-end="true"] { text-align: right; }
  [data-mono="true"] { font-family: ${({ theme }) => theme.font.mono}; font-size: ${({ theme }) => theme.size.small}; }
  tr[data-href] { cursor: pointer; }
  tbody th { position: static; box-shadow: none; font: inherit; color: inherit; padding: 6px 8px; background: none; overflow: hidden; text-overflow: ellipsis; max-width: 340px; }
  tr + tr th { border-top: 1px solid ${({ theme }) => theme.color.sunken}; }
  tr[data-href]:hover th { background: ${({ theme }) => theme.color.reedSoft}; }
  thead button { border: 0; padding: 0; background: none; font: inherit; color: inherit; cursor: pointer; }
  thead button:hover { color: ${({ theme }) => theme.color.ink}; text-decoration: underline; }
  tr[data-href]:hover td { background: ${({ theme }) => theme.color.reedSoft}; }
  select { font: inherit; padding: 1px 6px; border: 1px solid ${({ theme }) => theme.color.line}; border-radius: 4px; background: ${({ theme }) => theme.color.surface}; color: inherit; }
  small { color: ${({ theme }) => theme.color.inkFaint}; font-weight: 400; display: block; font-size: ${({ theme }) => theme.size.tiny}; }
`;

export interface GridColumn<T> {
  name: string;
  show: (row: T) => ReactNode;
  /** Figures stand at the right. */
  end?: boolean;
  mono?: boolean;
  /** A CSS width; with one on every column nothing moves while figures change. */
  width?: string;
  under?: string;
  /** Its name is heard and not seen. */
  quiet?: boolean;
  /** What rows are put in order by, where its head is pressed; null last. */
  by?: (row: T) => number | string | null;
}

interface Props<T> {
  label: string;
  columns: GridColumn<T>[];
  rows: T[];
  id: (row: T, index: number) => string | number;
  href?: (row: T) => string;
  empty: ReactNode;
  height?: string;
}

/** Rows that a table shows before it is asked for more: so many are drawn within a tenth of a second. */
const MOST_ROWS = 120;
const CONTROLS = "a, button, select, input";

/** The order that the address asks for: "Read", or "-Read" from the greatest down. */
function useOrder<T>(columns: GridColumn<T>[], rows: T[]): [T[], string, (name: string) => void] {
  const [asked, ask] = useSearchParams();
  const sort = asked.get("sort") ?? "";
  const column = columns.find((one) => one.by && (sort === one.name || sort === `-${one.name}`));
  const put = (name: string) => {
    const next = new URLSearchParams(asked);
    const turned = sort === name ? `-${name}` : sort === `-${name}` ? "" : name;
    if (turned) next.set("sort", turned);
    else next.delete("sort");
    ask(next, { replace: true });
  };
  if (!column?.by) return [rows, "", put];
  const { by } = column;
  const way = sort.startsWith("-") ? -1 : 1;
  const sorted = [...rows].sort((a, b) => {
    const [x, y] = [by(a), by(b)];
    if (x === null || y === null) return x === y ? 0 : x === null ? 1 : -1;
    return way * (typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y)));
  });
  return [sorted, sort, put];
}

/** A table that is one stop for Tab, and walked with the arrow keys; a row with an address opens with Enter. What stands in a row to be
 * pressed is reached with the right arrow. Plain elements: hundreds of rows are drawn anew with every letter of a search. */
export function Grid<T>({ label, columns, rows, id, href, empty, height }: Props<T>) {
  const [most, setMost] = useState(MOST_ROWS);
  const [ordered, sort, putOrder] = useOrder(columns, rows);
  const shown = ordered.length > most ? ordered.slice(0, most) : ordered;
  const fixed = columns.every((column) => column.width);
  const navigate = useNavigate();
  const names = useId();
  const body = useRef<HTMLTableSectionElement>(null);
  const active = useRef(0);
  // One row at a time takes part in Tab, with what stands in it.
  const mark = () => {
    [...(body.current?.rows ?? [])].forEach((row, place) => {
      const on = place === Math.min(active.current, shown.length - 1);
      row.tabIndex = on ? 0 : -1;
      for (const control of row.querySelectorAll<HTMLElement>(CONTROLS)) control.tabIndex = on ? 0 : -1;
    });
  };
  useLayoutEffect(mark);
  const go = (place: number) => {
    active.current = Math.max(0, Math.min(shown.length - 1, place));
    mark();
    body.current?.rows[active.current]?.focus();
  };
  const key = (event: KeyboardEvent<HTMLTableRowElement>, place: number, to: string | undefined) => {
    const row = event.currentTarget;
    const inside = event.target !== row;
    if (inside && ["SELECT", "INPUT"].includes((event.target as HTMLElement).tagName)) return;
    const controls = [...row.querySelectorAll<HTMLElement>(CONTROLS)];
    const here = controls.indexOf(event.target as HTMLElement);
    const moves: Record<string, () => void> = {
      ArrowDown: () => go(place + 1),
      ArrowUp: () => go(place - 1),
      PageDown: () => go(place + 15),
      PageUp: () => go(place - 15),
      Home: () => go(0),
      End: () => go(shown.length - 1),
      ArrowRight: () => controls[here + 1]?.focus(),
      ArrowLeft: () => (here > 0 ? controls[here - 1]! : row).focus(),
    };
    if (event.key === "Enter" && !inside && to) navigate(to);
    else if (event.key in moves) moves[event.key]!();
    else return;
    event.preventDefault();
  };
  const press = (event: MouseEvent<HTMLTableRowElement>, to: string) => {
    const chosen = window.getSelection()?.toString();
    if (!(event.target as HTMLElement).closest(CONTROLS) && !chosen) navigate(to);
  };
  return (
    <Frame style={height ? ({ "--grid-height": height } as object) : undefined}>
      <Base role="grid" aria-label={label} data-fixed={fixed} aria-rowcount={rows.length + 1}>
        <thead
          onKeyDown={(event) => {
            if (event.key !== "ArrowDown") return;
            event.preventDefault();
            go(active.current);
          }}
        >
          <tr>
            {columns.map((column, index) => (
              <th
                key={index}
                role="columnheader"
                scope="col"
                style={{ width: column.width }}
                data-end={column.end}
                aria-sort={
                  column.by
                    ? sort === column.name
                      ? "ascending"
                      : sort === `-${column.name}`
                        ? "descending"
                        : "none"
                    : undefined
                }
              >
                {column.quiet ? (
                  <Unseen>{column.name}</Unseen>
                ) : column.by ? (
                  <button type="button" onClick={() => putOrder(column.name)}>
                    {column.name}
                    {sort === column.name ? " ↑" : sort === `-${column.name}` ? " ↓" : ""}
                  </button>
                ) : (
                  column.name
                )}
                {column.under !== undefined && <small>{column.under || "\u00a0"}</small>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody ref={body}>
          {shown.map((row, index) => {
            const to = href?.(row);
            const name = `${names}-${index}`;
            return (
              <tr
                key={id(row, index)}
                aria-labelledby={name}
                data-href={to}
                onKeyDown={(event) => key(event, index, to)}
                onFocus={() => {
                  if (active.current !== index) {
                    active.current = index;
                    mark();
                  }
                }}
                onClick={to ? (event) => press(event, to) : undefined}
              >
                {columns.map((column, place) =>
                  place === 0 ? (
                    <th key={place} id={name} role="rowheader" scope="row" data-end={column.end} data-mono={column.mono}>
                      {column.show(row)}
                    </th>
                  ) : (
                    <td key={place} role="gridcell" data-end={column.end} data-mono={column.mono}>
                      {column.show(row)}
                    </td>
                  ),
                )}
              </tr>
            );
          })}
          {shown.length === 0 && (
            <tr>
              <td role="gridcell" colSpan={columns.length}>
                <Empty>{empty}</Empty>
              </td>
            </tr>
          )}
        </tbody>
      </Base>
      {rows.length > shown.length && (
        <More>
          {`The first ${shown.length.toLocaleString("en-US")} of ${rows.length.toLocaleString("en-US")}. `}
          <button type="button" onClick={() => setMost(most + 5 * MOST_ROWS)}>
            Show more
          </button>
        </More>
      )}
    </Frame>
  );
}

const Empty = styled.div`
  padding: ${({ theme }) => theme.space.xl};
  color: ${({ theme }) => theme.color.inkSoft};
`;

const More = styled.p`
  margin: 0;
  padding: 8px 12px;
  color: ${({ theme }) => theme.color.inkSoft};
  border-top: 1px solid ${({ theme }) => theme.color.line};
  button { border: 0; background: none; font: inherit; color: ${({ theme }) => theme.color.reed}; cursor: pointer; text-decoration: underline; }
`;
