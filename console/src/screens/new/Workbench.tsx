import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import styled from "styled-components";
import type { Choice, TrialResult } from "../../lib/api-types";
import { asName, type Doc, of, put, text, tidy, under, withValue, write } from "../../lib/draft";
import { plural } from "../../lib/format";
import { applyFiles, tryDraft } from "../../lib/queries";
import { Button } from "../../ui/Button";
import { Field, FormLine, OneOf } from "../../ui/Field";
import { Actions, Page, Section } from "../../ui/Page";
import { Hint, Trouble } from "../../ui/States";
import { FEED_DRAFT } from "../ChangeButton";
import { Wire } from "../PreviewView";
import { RowsGrid } from "../RowsGrid";
import { JsonTree } from "./JsonTree";
import { SignInFields } from "./SignInFields";
import { type Casts, TypesView } from "./TypesView";
import { type Draft, useDraft } from "./useDraft";
import { Mistakes, YamlPanel } from "./YamlPanel";

const FIRST = `connector: my-api
type: http
settings:
  url: { type: url }
base_url: "{settings.url}"
tables:
  - table: records
    get: /
---
source: my_source
connector: my-api
settings:
  url: http://127.0.0.1:8801
`;

const Sides = styled.div`
  display: grid;
  grid-template-columns: minmax(330px, 5fr) minmax(0, 8fr);
  gap: ${({ theme }) => theme.space.xl};
  align-items: start;
  @media (max-width: 900px) { grid-template-columns: minmax(0, 1fr); }
`;

const Chips = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 4px;
  li { display: grid; grid-template-columns: auto minmax(0, 1fr); gap: 8px; align-items: baseline; }
  button {
    font: ${({ theme }) => theme.size.small} ${({ theme }) => theme.font.mono};
    border: 1px solid ${({ theme }) => theme.color.line};
    border-radius: ${({ theme }) => theme.radius};
    background: ${({ theme }) => theme.color.surface};
    color: inherit;
    padding: 2px 8px;
    cursor: pointer;
    text-align: left;
  }
  button:hover { border-color: ${({ theme }) => theme.color.reed}; }
  button[aria-pressed="true"] { background: ${({ theme }) => theme.color.reedSoft}; border-color: ${({ theme }) => theme.color.reed}; }
  small { color: ${({ theme }) => theme.color.inkSoft}; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  h3 { font-size: ${({ theme }) => theme.size.small}; font-weight: 400; color: ${({ theme }) => theme.color.inkSoft}; margin: 6px 0 0; }
`;

/** An API declared by trying: the request on one side, the answer on the other, and what the answer suggests in between. */
export function Workbench() {
  const draft = useDraft("reed-workbench", FIRST);
  const [asText, setText] = useState(false);
  const [wanted, setWanted] = useState("");
  const [casts, setCasts] = useState<Record<string, Casts>>({});
  const navigate = useNavigate();
  const cache = useQueryClient();
  const connector = of(draft.docs, "connector") ?? {};
  const source = text(of(draft.docs, "source")?.source);
  const tables = (connector.tables ?? {}) as Record<string, Doc>;
  const table = wanted in tables ? wanted : (Object.keys(tables)[0] ?? "");
  const tried = useMutation({ mutationFn: (pages: number) => tryDraft(draft.text, source, table, pages) });
  const keep = useMutation({
    mutationFn: () => applyFiles({ [`${text(connector.connector)}.yaml`]: draft.text }, false),
    onSuccess: () => cache.invalidateQueries(),
  });
  const makeFeed = () => {
    const chosen = Object.keys(tables).map(
      (name) => [name, Object.keys(casts[name] ?? {}).length > 0 ? { cast: casts[name] } : null] as const,
    );
    localStorage.setItem(FEED_DRAFT, write([{ feed: source, from: source, into: "", tables: Object.fromEntries(chosen) }]));
    navigate("/new?step=tables");
  };
  return (
    <Page
      title="Workbench"
      about="Build a connector from live answers: send a request, select the records, accept the suggestions, and save it."
      actions={
        <>
          <Button look="quiet" onPress={draft.forget}>
            Start over
          </Button>
          <Button onPress={() => setText(!asText)}>{asText ? "Forms" : "YAML"}</Button>
          <Button look="main" onPress={() => keep.mutate()} isPending={keep.isPending} isDisabled={draft.problem !== ""}>
            Save connector
          </Button>
        </>
      }
    >
      {keep.isError && <Mistakes error={keep.error} />}
      {keep.isSuccess && (
        <Hint>
          {`Kept: ${keep.data.map((one) => `${one.kind} ${one.name} (${one.change})`).join(", ")}. `}
          <Button onPress={makeFeed}>Make a feed of it</Button>
        </Hint>
      )}
      {asText ? (
        <YamlPanel draft={draft} />
      ) : draft.problem ? (
        <Hint>{`What was written does not read as YAML: ${draft.problem}. Fix it there first.`}</Hint>
      ) : (
        <Sides>
          <Ask draft={draft} connector={connector} table={table} setTable={setWanted}>
            <Actions>
              <Button look="main" onPress={() => tried.mutate(1)} isPending={tried.isPending} isDisabled={!table || !source}>
                Fetch a page
              </Button>
              <Button onPress={() => tried.mutate(3)} isPending={tried.isPending} isDisabled={!table || !source}>
                Fetch three pages
              </Button>
            </Actions>
            {tried.data && <Suggestions draft={draft} table={table} own={tables[table] ?? {}} tried={tried.data} />}
          </Ask>
          <Answer
            draft={draft}
            table={table}
            own={tables[table] ?? {}}
            tried={tried.data}
            error={tried.error}
            casts={casts[table] ?? {}}
            cast={(next) => setCasts({ ...casts, [table]: next })}
          />
        </Sides>
      )}
    </Page>
  );
}

const setTableValue = (draft: Draft, table: string, keys: string[], value: unknown) =>
  draft.change((docs) => {
    const connector = of(docs, "connector") ?? {};
    return put(docs, "connector", tidy(withValue(connector, ["tables", table, ...keys], value)));
  });

function Ask({
  draft,
  connector,
  table,
  setTable,
  children,
}: {
  draft: Draft;
  connector: Doc;
  table: string;
  setTable: (name: string) => void;
  children: React.ReactNode;
}) {
  const source = of(draft.docs, "source") ?? {};
  const own = ((connector.tables ?? {}) as Record<string, Doc>)[table] ?? {};
  const setConnector = (keys: string[], value: unknown) =>
    draft.change((docs) => put(docs, "connector", withValue(of(docs, "connector") ?? {}, keys, value)));
  const setSource = (keys: string[], value: unknown) =>
    draft.change((docs) => put(docs, "source", withValue(of(docs, "source") ?? {}, keys, value)));
  const rename = (name: string) =>
    draft.change((docs) =>
      put(put(docs, "connector", { ...of(docs, "connector"), connector: name }), "source", {
        ...of(docs, "source"),
        connector: name,
        source: asName(name.replace(/-api$/, "")),
      }),
    );
  const renameTable = (name: string) => {
    setTable(name);
    draft.change((docs) => {
      const now = of(docs, "connector") ?? {};
      const all = Object.entries((now.tables ?? {}) as Record<string, Doc>).map(
        ([key, value]) => [key === table ? name : key, value] as const,
      );
      return put(docs, "connector", { ...now, tables: Object.fromEntries(all) });
    });
  };
  const more = () => {
    const name = `table_${Object.keys((connector.tables ?? {}) as object).length + 1}`;
    setConnector(["tables", name], { get: "/" });
    setTable(name);
  };
  const sent = Object.entries((own.send ?? {}) as Doc)
    .map(([key, value]) => `${key}=${text(value)}`)
    .join("&");
  return (
    <Section>
      <FormLine label="The API" send={() => undefined}>
        <Field label="Connector" value={text(connector.connector)} change={rename} width={150} />
        <Field
          label="Address"
          value={text(under(source, "settings", "url"))}
          change={(value) => setSource(["settings", "url"], value)}
          width={230}
        />
      </FormLine>
      <SignInFields draft={draft} connector={connector} source={source} />
      <FormLine label="The table" send={() => undefined}>
        {Object.keys((connector.tables ?? {}) as object).length > 1 && (
          <OneOf label="Table" value={table} of={Object.keys(connector.tables as object)} change={setTable} />
        )}
        <Field label="Table" value={table} change={renameTable} width={150} />
        <Field
          label="Path"
          value={text(own.get)}
          change={(value) => setTableValue(draft, table, ["get"], value)}
          placeholder="/v1/pass-holders"
          width={230}
        />
        <Button look="quiet" onPress={more}>
          Add table
        </Button>
      </FormLine>
      <FormLine label="Request" send={() => undefined}>
        <Field
          label="Query parameters"
          value={sent}
          change={(value) =>
            setTableValue(
              draft,
              table,
              ["query_params"],
              Object.fromEntries(
                value
                  .split("&")
                  .filter(Boolean)
                  .map((pair) => [pair.split("=")[0], pair.split("=").slice(1).join("=")]),
              ),
            )
          }
          placeholder="since={cursor.from}&status=open"
          width={392}
        />
      </FormLine>
      {children}
    </Section>
  );
}

const said = (value: unknown): string => {
  if (value === "") return "(the answer itself)";
  if (typeof value !== "object" || value === null) return String(value);
  return Object.entries(value)
    .map(([key, one]) => `${key}: ${String(one)}`)
    .join(", ");
};

/** What the answer speaks for, taken with a press; a second press takes it back. */
function Suggestions({ draft, table, own, tried }: { draft: Draft; table: string; own: Doc; tried: TrialResult }) {
  const rows: [string, string, Choice[]][] = [
    ["Pagination", "pagination", tried.suggested.pagination],
    ["Total", "total", tried.suggested.total],
    ["Key", "primary_key", tried.suggested.key],
    ["Cursor", "cursor", tried.suggested.cursor],
  ];
  const some = rows.filter(([, , choices]) => choices.length > 0);
  if (some.length === 0)
    return (
      <Hint>
        {tried.columns.length === 0
          ? "Select the records in the answer to get suggestions."
          : "This answer suggests no pagination and no key."}
      </Hint>
    );
  return (
    <Chips aria-label="What the answer suggests">
      {some.map(([title, key, choices]) => (
        <li key={key} style={{ display: "block" }}>
          <h3>{title}</h3>
          <ul style={{ listStyle: "none", margin: 0, padding: 0, display: "grid", gap: 4 }}>
            {choices.slice(0, 3).map((choice) => {
              const taken = JSON.stringify(own[key]) === JSON.stringify(choice.say);
              return (
                <li key={said(choice.say)}>
                  <button
                    type="button"
                    aria-pressed={taken}
                    onClick={() => setTableValue(draft, table, [key], taken ? undefined : choice.say)}
                  >
                    {said(choice.say)}
                  </button>
                  <small title={choice.why}>{choice.why}</small>
                </li>
              );
            })}
          </ul>
        </li>
      ))}
    </Chips>
  );
}

interface AnswerProps {
  draft: Draft;
  table: string;
  own: Doc;
  tried: TrialResult | undefined;
  error: Error | null;
  casts: Casts;
  cast: (casts: Casts) => void;
}

function Answer({ draft, table, own, tried, error, casts, cast }: AnswerProps) {
  const [look, setLook] = useState<"tree" | "wire">("tree");
  const [below, setBelow] = useState<"records" | "types">("records");
  if (error) return <Mistakes error={error} />;
  if (!tried) return <Hint>No request sent yet. Fill in the address and the path, and fetch a page: the answer shows here.</Hint>;
  const last = tried.exchanges.at(-1);
  const pages =
    tried.pages.length > 1
      ? `${plural(tried.pages.length, "page")}: ${tried.pages.join(", ")} records`
      : plural(tried.pages[0] ?? 0, "record");
  return (
    <Section>
      <Actions>
        <h2>{`${last?.status ?? "no answer"}, ${pages}`}</h2>
        <Button look="quiet" onPress={() => setLook(look === "tree" ? "wire" : "tree")}>
          {look === "tree" ? "Show the wire" : "Show the tree"}
        </Button>
        {tried.rows.length > 0 && (
          <Button look="quiet" onPress={() => setBelow(below === "records" ? "types" : "records")}>
            {below === "records" ? "Correct types" : "Show the records"}
          </Button>
        )}
      </Actions>
      {tried.error && <Trouble facts={tried.error} />}
      {look === "wire" ? (
        tried.exchanges.map((exchange, place) => <Wire key={place} exchange={exchange} />)
      ) : tried.answer === null ? (
        last && <Wire exchange={last} />
      ) : (
        <JsonTree
          value={tried.answer}
          chosen={text(own.records)}
          choose={(path) => setTableValue(draft, table, ["records"], path)}
        />
      )}
      {below === "types" && tried.rows.length > 0 && <TypesView columns={tried.columns} casts={casts} cast={cast} />}
      {below === "records" && tried.rows.length > 0 && (
        <RowsGrid
          label={`Records of ${table}`}
          rows={{ columns: tried.columns, rows: tried.rows, truncated: false, seconds: 0 }}
          height="34vh"
        />
      )}
    </Section>
  );
}
