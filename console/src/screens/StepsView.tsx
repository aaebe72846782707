import styled from "styled-components";
import type { LedgerLine, TableProgress } from "../lib/api-types";
import { count, duration, plural, size } from "../lib/format";
import { stepsOf } from "../lib/steps";

const Line = styled.section`
  h3 { margin: 0 0 6px; font-size: ${({ theme }) => theme.size.body}; font-weight: 600; }
  h3 small { font-weight: 400; color: ${({ theme }) => theme.color.inkSoft}; }
  & + & { margin-top: ${({ theme }) => theme.space.l}; }
`;

const Row = styled.ol`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  grid-template-columns: repeat(5, minmax(0, 1fr));
  gap: 26px;
  li {
    position: relative;
    padding: 8px 10px;
    border: 1px solid ${({ theme }) => theme.color.line};
    border-radius: ${({ theme }) => theme.radius};
    background: ${({ theme }) => theme.color.surface};
    font-size: ${({ theme }) => theme.size.small};
  }
  li + li::before { content: "→"; position: absolute; left: -21px; top: 24px; color: ${({ theme }) => theme.color.inkFaint}; }
  li > span { display: flex; justify-content: space-between; gap: 8px; color: ${({ theme }) => theme.color.inkSoft}; }
  li > b { display: block; font-size: 17px; font-weight: 600; padding: 1px 0; font-variant-numeric: tabular-nums; }
  li > b small { font-weight: 400; font-size: ${({ theme }) => theme.size.small}; color: ${({ theme }) => theme.color.inkSoft}; }
  dl { margin: 4px 0 0; }
  dl div { display: flex; justify-content: space-between; gap: 8px; }
  dt { color: ${({ theme }) => theme.color.inkSoft}; }
  dd { margin: 0; font-variant-numeric: tabular-nums; }
  div[data-bad="true"] dt, div[data-bad="true"] dd { color: ${({ theme }) => theme.color.bad}; }
  @media (max-width: 760px) { grid-template-columns: minmax(0, 1fr); gap: 20px; li + li::before { content: "↓"; left: 50%; top: -20px; } }
`;

/** Step by step: what came out of each, and what else became of what went in. */
export function StepsView({ tables, lines }: { tables: TableProgress[]; lines: LedgerLine[] }) {
  if (tables.length === 0) return <p>Not begun yet.</p>;
  const others = new Set(tables.map((table) => table.warehouse));
  const linesOf = (table: TableProgress) =>
    lines.filter(
      (line) =>
        line.source_table === table.table && (table.warehouse ? line.warehouse === table.warehouse : !others.has(line.warehouse)),
    );
  return (
    <div>
      {tables.map((table) => (
        <Line key={`${table.table} ${table.warehouse}`}>
          <h3>
            {table.table}{" "}
            <small>
              {[
                `into ${table.target}${table.warehouse && ` in ${table.warehouse}`}`,
                table.requests > 0 && plural(table.requests, "request"),
                table.source_bytes > 0 && `${size(table.source_bytes)} received`,
                table.cursor_to && `cursor ${table.cursor_from ?? "nothing"} → ${table.cursor_to}`,
              ]
                .filter(Boolean)
                .join(" · ")}
            </small>
          </h3>
          <Row aria-label={`Steps of ${table.table}${table.warehouse && ` in ${table.warehouse}`}`}>
            {stepsOf(table, linesOf(table)).map((step) => (
              <li key={step.name}>
                <span>
                  {step.name} <small>{step.seconds >= 0.001 && duration(step.seconds)}</small>
                </span>
                <b>
                  {count(step.out)} <small>{step.out === 1 ? step.unit : `${step.unit}s`}</small>
                </b>
                {step.beside.length > 0 && (
                  <dl>
                    {step.beside.map(([what, value]) => (
                      <div key={what} data-bad={what === "rejected"}>
                        <dt>{what}</dt>
                        <dd>{count(value)}</dd>
                      </div>
                    ))}
                  </dl>
                )}
              </li>
            ))}
          </Row>
        </Line>
      ))}
    </div>
  );
}
