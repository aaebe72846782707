import styled from "styled-components";

const Base = styled.div`
  font: ${({ theme }) => theme.size.small}/1.6 ${({ theme }) => theme.font.mono};
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  padding: 8px 12px;
  overflow: auto;
  max-height: 46vh;
  ul { list-style: none; margin: 0; padding-left: 18px; }
  > ul { padding-left: 0; }
  summary { cursor: pointer; }
  i { font-style: normal; color: ${({ theme }) => theme.color.inkSoft}; }
  button {
    font: inherit;
    border: 1px solid ${({ theme }) => theme.color.line};
    border-radius: 999px;
    padding: 0 8px;
    margin-left: 8px;
    line-height: 18px;
    background: ${({ theme }) => theme.color.surface};
    color: ${({ theme }) => theme.color.reed};
    cursor: pointer;
  }
  button[aria-pressed="true"] { background: ${({ theme }) => theme.color.reedSoft}; border-color: ${({ theme }) => theme.color.reed}; }
`;

const plainName = /^[A-Za-z_][A-Za-z0-9_]*$/;
const below = (path: string, name: string): string => {
  const part = plainName.test(name) ? name : `"${name.replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`;
  return path ? `${path}.${part}` : part;
};

/** A list of objects could be the records; with how many the service left out of what it shows. */
const lengthOf = (list: unknown[]): number => {
  const last = list.at(-1);
  const more =
    last !== null && typeof last === "object" && !Array.isArray(last) && "…" in last
      ? Number((last as Record<string, unknown>)["…"])
      : 0;
  return more ? list.length - 1 + more : list.length;
};

const couldBe = (value: unknown): value is unknown[] =>
  Array.isArray(value) &&
  value.length > 0 &&
  value.every((item) => item !== null && typeof item === "object" && !Array.isArray(item));

/** An answer as a tree. Lists of objects offer themselves as the records; the one that is chosen says so. */
export function JsonTree({ value, chosen, choose }: { value: unknown; chosen: string; choose: (path: string) => void }) {
  return (
    <Base role="group" aria-label="The answer, as a tree">
      <ul>
        <Node name="" path="" value={value} chosen={chosen} choose={choose} deep={0} />
      </ul>
    </Base>
  );
}

interface NodeProps {
  name: string;
  path: string;
  value: unknown;
  chosen: string;
  choose: (path: string) => void;
  deep: number;
}

function Node({ name, path, value, chosen, choose, deep }: NodeProps) {
  const label = name && <b>{name}: </b>;
  if (value === null || typeof value !== "object")
    return (
      <li>
        {label}
        <i>{JSON.stringify(value)}</i>
      </li>
    );
  const list = Array.isArray(value);
  const inner: [string, unknown][] = list ? value.map((item, place) => [String(place), item]) : Object.entries(value);
  const records = couldBe(value);
  return (
    <li>
      <details open={deep < 2 || (records && path === chosen)}>
        <summary>
          {label}
          <i>{list ? `a list of ${lengthOf(value)}` : name === "" ? "the answer" : "{ }"}</i>
          {records && (
            <button
              type="button"
              aria-pressed={path === chosen}
              onClick={(event) => {
                event.preventDefault();
                choose(path);
              }}
            >
              {path === chosen ? "these are the records" : "use as records"}
            </button>
          )}
        </summary>
        <ul>
          {inner.map(([key, item]) =>
            key === "…" || (list && item !== null && typeof item === "object" && "…" in item) ? (
              <li key={key}>
                <i>{`… ${String((item as Record<string, unknown>)["…"] ?? item)} more`}</i>
              </li>
            ) : (
              // Below a list no path leads on: its items are what the path means.
              <Node
                key={key}
                name={key}
                path={list ? `${path}[]` : below(path, key)}
                value={item}
                chosen={chosen}
                choose={choose}
                deep={deep + 1}
              />
            ),
          )}
        </ul>
      </details>
    </li>
  );
}
