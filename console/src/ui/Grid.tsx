import { useState, type ReactNode } from "react";
import { Cell, Column, Row, Table, TableBody, TableHeader } from "react-aria-components";
import styled from "styled-components";
import { Unseen } from "./Unseen";

const Frame = styled.div`
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  overflow: auto;
  max-height: var(--grid-height, none);
`;

const Base = styled(Table)`
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
  tr[data-href][data-hovered] td { background: ${({ theme }) => theme.color.reedSoft}; }
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
const MOST_ROWS = 200;

/** A table that is walked with the arrow keys; a row with an address opens with Enter. */
export function Grid<T>({ label, columns, rows, id, href, empty, height }: Props<T>) {
  const [most, setMost] = useState(MOST_ROWS);
  const shown = rows.length > most ? rows.slice(0, most) : rows;
  const fixed = columns.every((column) => column.width);
  return (
    <Frame style={height ? ({ "--grid-height": height } as object) : undefined}>
      <Base aria-label={label} data-fixed={fixed}>
        <TableHeader>
          {columns.map((column, index) => (
            <Column key={index} id={`${index} ${column.name}`} isRowHeader={index === 0} style={{ width: column.width }} data-end={column.end}>
              {column.quiet ? <Unseen>{column.name}</Unseen> : column.name}
              {column.under !== undefined && <small>{column.under || "\u00a0"}</small>}
            </Column>
          ))}
        </TableHeader>
        <TableBody renderEmptyState={() => <Empty>{empty}</Empty>}>
          {shown.map((row, index) => (
            <Row key={id(row, index)} id={id(row, index)} href={href?.(row)}>
              {columns.map((column, place) => (
                <Cell key={place} data-end={column.end} data-mono={column.mono}>
                  {column.show(row)}
                </Cell>
              ))}
            </Row>
          ))}
        </TableBody>
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
