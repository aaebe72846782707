import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled from "styled-components";
import type { Definition } from "../../lib/api-types";
import { asName, of, put, sourceOnly, text, under, withValue, type Doc } from "../../lib/draft";
import { checkDraft, definitionsQuery, setupOfDraft, sourcesQuery } from "../../lib/queries";
import { Button } from "../../ui/Button";
import { Field, FormLine, OneOf } from "../../ui/Field";
import { Actions, Section } from "../../ui/Page";
import { CheckView } from "../CheckView";
import { Script } from "../SetupView";
import { Mistakes } from "./YamlPanel";
import { SecretField } from "./SecretField";
import type { Draft } from "./useDraft";

const KINDS = ["an API", "PostgreSQL", "MariaDB or MySQL", "SQLite", "a folder of files", "another store of files"] as const;
type Sort = (typeof KINDS)[number];

function sortOf(source: Doc): Sort {
  if (source.connector !== undefined) return "an API";
  if (source.on === "postgres") return "PostgreSQL";
  if (source.on === "mysql") return "MariaDB or MySQL";
  if (source.on === "sqlite") return "SQLite";
  return source.url !== undefined ? "another store of files" : "a folder of files";
}

const firstOf = (sort: Sort, name: string): Doc =>
  ({
    "an API": { source: name, connector: "", settings: {} },
    PostgreSQL: { source: name, on: "postgres", host: "127.0.0.1", port: 5432, database: "", user: "", password: { secret: `${asName(name)}_password` } },
    "MariaDB or MySQL": { source: name, on: "mysql", host: "127.0.0.1", port: 3306, database: "", user: "", password: { secret: `${asName(name)}_password` } },
    SQLite: { source: name, on: "sqlite", path: "" },
    "a folder of files": { source: name, on: "files", path: "" },
    "another store of files": { source: name, on: "files", url: "s3://" },
  })[sort];

const NEW = "";

const Tiles = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(200px, 1fr));
  gap: 6px;
  max-height: 40vh;
  overflow: auto;
  padding: 2px;
  button {
    display: grid;
    gap: 1px;
    text-align: left;
    font: inherit;
    color: inherit;
    cursor: pointer;
    padding: 7px 12px;
    border: 1px solid ${({ theme }) => theme.color.line};
    border-radius: ${({ theme }) => theme.radius};
    background: ${({ theme }) => theme.color.surface};
  }
  button:hover { border-color: ${({ theme }) => theme.color.reed}; }
  button[aria-pressed="true"] { background: ${({ theme }) => theme.color.reedSoft}; border-color: ${({ theme }) => theme.color.reed}; }
  small { color: ${({ theme }) => theme.color.inkSoft}; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
`;

/** Pick a source that is there, or describe a new one; see whether it answers. */
export function SourceStep({ draft }: { draft: Draft }) {
  const sources = useQuery(sourcesQuery());
  const definitions = useQuery(definitionsQuery());
  const source = of(draft.docs, "source");
  const from = text(of(draft.docs, "feed")?.from);
  const choose = (name: string) =>
    draft.change((docs) => {
      const feed = of(docs, "feed") ?? { feed: "" };
      if (name === NEW) return put(put(docs, "source", firstOf("PostgreSQL", "new_source")), "feed", { ...feed, from: "new_source", tables: {} });
      return put(put(docs, "source", null), "feed", { ...feed, from: name, tables: from === name ? feed.tables : {} });
    });
  return (
    <Section>
      <Tiles role="group" aria-label="Source">
        {(sources.data ?? []).map((one) => (
          <button key={one.name} type="button" aria-pressed={!source && from === one.name} onClick={() => choose(one.name)}>
            <b>{one.name}</b>
            <small>{one.about || one.connector}</small>
          </button>
        ))}
        <button type="button" aria-pressed={source !== undefined} onClick={() => choose(NEW)}>
          <b>A new one</b>
          <small>a database, files, or an API</small>
        </button>
      </Tiles>
      {source && <NewSource draft={draft} source={source} connectors={(definitions.data ?? []).filter((one) => one.kind === "connector")} />}
      {from && (
        <>
          <CheckView key={draft.text} ask={() => checkDraft(sourceOnly(draft.docs), from)} />
          {source && ["postgres", "mysql"].includes(text(source.on)) && <Setup draft={draft} name={from} />}
        </>
      )}
    </Section>
  );
}

function NewSource({ draft, source, connectors }: { draft: Draft; source: Doc; connectors: Definition[] }) {
  const sort = sortOf(source);
  const set = (keys: string[], value: unknown) => draft.change((docs) => put(docs, "source", withValue(of(docs, "source") ?? source, keys, value)));
  const rename = (name: string) =>
    draft.change((docs) => put(put(docs, "source", { ...(of(docs, "source") ?? source), source: name }), "feed", { ...(of(docs, "feed") ?? {}), from: name }));
  const field = (label: string, keys: string[], width = 190, placeholder = "") => (
    <Field label={label} value={text(under(source, ...keys))} change={(value) => set(keys, keys[0] === "port" ? Number(value) || value : value)} width={width} placeholder={placeholder} />
  );
  const inDraft = of(draft.docs, "connector");
  const connector = inDraft && inDraft.connector === source.connector ? inDraft : connectors.find((one) => one.name === source.connector)?.data;
  const names = [...new Set([...connectors.map((one) => one.name), ...(inDraft ? [text(inDraft.connector)] : [])])];
  return (
    <>
      <FormLine label="The new source" send={() => undefined}>
        <Field label="Its name here" value={text(source.source)} change={rename} width={190} />
        <OneOf
          label="It is"
          value={sort}
          of={KINDS}
          change={(next) => draft.change((docs) => put(docs, "source", firstOf(next, text(source.source))))}
        />
      </FormLine>
      {(sort === "PostgreSQL" || sort === "MariaDB or MySQL") && (
        <>
          <FormLine label="Where it is" send={() => undefined}>
            {field("Host", ["host"])}
            {field("Port", ["port"], 80)}
            {field("Database", ["database"])}
            {sort === "PostgreSQL" && field("Schema", ["schema"], 120, "public")}
            {field("User", ["user"], 130)}
            <OneOf label="TLS" value={text(under(source, "tls", "mode")) || "require"} of={["require", "verify-full", "verify-ca", "disable"]} change={(mode) => set(["tls", "mode"], mode === "require" ? undefined : mode)} />
          </FormLine>
          <SecretField label="Password" name={text(under(source, "password", "secret"))} change={(name) => set(["password", "secret"], name)} />
        </>
      )}
      {sort === "SQLite" && <FormLine label="Where it is" send={() => undefined}>{field("Path; a relative one begins in `files` of the data folder", ["path"], 380, "dock.db")}</FormLine>}
      {sort === "a folder of files" && <FormLine label="Where it is" send={() => undefined}>{field("Folder; a relative one begins in `files` of the data folder", ["path"], 380, "turnstile")}</FormLine>}
      {sort === "another store of files" && (
        <>
          <FormLine label="Where it is" send={() => undefined}>
            {field("Address", ["url"], 300, "s3://bucket/folder, sftp://host/folder")}
            {field("Endpoint, of one's own", ["endpoint"], 210, "http://127.0.0.1:9000")}
            {field("User, or key", ["user"], 140)}
          </FormLine>
          <SecretField label="Password" name={text(under(source, "password", "secret"))} change={(name) => set(["password"], name ? { secret: name } : undefined)} />
        </>
      )}
      {sort === "an API" && (
        <>
          <FormLine label="How it is asked" send={() => undefined}>
            <OneOf label="Connector" value={text(source.connector)} of={["", ...names]} change={(name) => set(["connector"], name)} />
            <p>
              None fits? <Link to="/workbench">Declare one in the workbench</Link>; what is here stays.
            </p>
          </FormLine>
          {connector && <Settings connector={connector} source={source} set={set} />}
        </>
      )}
    </>
  );
}

interface Setting {
  type?: string;
  about?: string;
  example?: unknown;
  default?: unknown;
}

function Settings({ connector, source, set }: { connector: Doc; source: Doc; set: (keys: string[], value: unknown) => void }) {
  const settings = Object.entries((connector.settings ?? {}) as Record<string, Setting | null>);
  const plain = settings.filter(([, one]) => one?.type !== "secret");
  return (
    <>
      <FormLine label="Settings" send={() => undefined}>
        {plain.map(([name, one]) => (
          <Field
            key={name}
            label={one?.about ? `${name}: ${one.about}` : name}
            value={text(under(source, "settings", name))}
            change={(value) => set(["settings", name], value)}
            placeholder={text(one?.default ?? one?.example)}
            width={260}
          />
        ))}
      </FormLine>
      {settings
        .filter(([, one]) => one?.type === "secret")
        .map(([name]) => (
          <SecretField key={name} label={name} name={text(under(source, "settings", name, "secret"))} change={(secret) => set(["settings", name], { secret })} />
        ))}
    </>
  );
}

function Setup({ draft, name }: { draft: Draft; name: string }) {
  const ask = useMutation({ mutationFn: () => setupOfDraft(sourceOnly(draft.docs), name) });
  return (
    <Section>
      <Actions>
        <Button onPress={() => ask.mutate()} isPending={ask.isPending}>
          SQL for its administrator
        </Button>
        <small>What the user of this source needs to read what the feed names, and nothing more.</small>
      </Actions>
      {ask.isError && <Mistakes error={ask.error} />}
      {ask.data && <Script tabIndex={0} aria-label="Statements">{ask.data.map((one) => `-- ${one.why}\n${one.sql ? `${one.sql}\n` : ""}`).join("")}</Script>}
    </Section>
  );
}
