import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled from "styled-components";
import type { Definition, Form, FormField } from "../../lib/api-types";
import { asName, type Doc, of, put, sourceOnly, text, under, withValue } from "../../lib/draft";
import { checkDraft, definitionsQuery, formsQuery, setupOfDraft, sourcesQuery } from "../../lib/queries";
import { Button } from "../../ui/Button";
import { Field, FormLine, OneOf } from "../../ui/Field";
import { Actions, Section } from "../../ui/Page";
import { CheckView } from "../CheckView";
import { Script } from "../SetupView";
import { SecretField } from "./SecretField";
import type { Draft } from "./useDraft";
import { Mistakes } from "./YamlPanel";

const API = "an API";

/** Which of the forms describes what a source says it is; null for a connector. */
function formOf(source: Doc, forms: Form[]): Form | null {
  const own = forms.filter((form) => form.type === source.type);
  const told = own.find((form) => form.fields.some((field) => field.start !== null && under(source, ...field.key) !== undefined));
  return source.connector !== undefined ? null : (told ?? own[0] ?? null);
}

/** A new source by a form, as far as it is there at first. */
function startOf(form: Form | undefined, name: string): Doc {
  if (form === undefined) return { source: name, connector: "", settings: {} };
  return form.fields.reduce<Doc>(
    (doc, field) => {
      const start = field.own ? { secret: `${asName(name)}_password` } : field.start;
      return start === null ? doc : withValue(doc, field.key, start);
    },
    { source: name, type: form.type },
  );
}

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
  const forms = useQuery(formsQuery()).data ?? [];
  const source = of(draft.docs, "source");
  const from = text(of(draft.docs, "feed")?.from);
  const choose = (name: string) =>
    draft.change((docs) => {
      const feed = of(docs, "feed") ?? { feed: "" };
      if (name === NEW)
        return put(
          put(
            docs,
            "source",
            startOf(
              forms.find((form) => form.setup),
              "new_source",
            ),
          ),
          "feed",
          { ...feed, from: "new_source", tables: {} },
        );
      return put(put(docs, "source", null), "feed", { ...feed, from: name, tables: from === name ? feed.tables : {} });
    });
  return (
    <Section>
      <Tiles role="group" aria-label="Source">
        {(sources.data ?? []).map((one) => (
          <button key={one.name} type="button" aria-pressed={!source && from === one.name} onClick={() => choose(one.name)}>
            <b>{one.name}</b>
            <small>{one.description || one.connector}</small>
          </button>
        ))}
        <button type="button" aria-pressed={source !== undefined} disabled={forms.length === 0} onClick={() => choose(NEW)}>
          <b>A new one</b>
          <small>a database, files, or an API</small>
        </button>
      </Tiles>
      {source && (
        <NewSource
          draft={draft}
          source={source}
          forms={forms}
          connectors={(definitions.data ?? []).filter((one) => one.kind === "connector")}
        />
      )}
      {from && (
        <>
          <CheckView key={draft.text} ask={() => checkDraft(sourceOnly(draft.docs), from)} />
          {source && formOf(source, forms)?.setup && <Setup draft={draft} name={from} />}
        </>
      )}
    </Section>
  );
}

function NewSource({ draft, source, forms, connectors }: { draft: Draft; source: Doc; forms: Form[]; connectors: Definition[] }) {
  const form = formOf(source, forms);
  const set = (keys: string[], value: unknown) =>
    draft.change((docs) => put(docs, "source", withValue(of(docs, "source") ?? source, keys, value)));
  const rename = (name: string) =>
    draft.change((docs) =>
      put(put(docs, "source", { ...(of(docs, "source") ?? source), source: name }), "feed", {
        ...(of(docs, "feed") ?? {}),
        from: name,
      }),
    );
  const inDraft = of(draft.docs, "connector");
  const connector =
    inDraft && inDraft.connector === source.connector ? inDraft : connectors.find((one) => one.name === source.connector)?.data;
  const names = [...new Set([...connectors.map((one) => one.name), ...(inDraft ? [text(inDraft.connector)] : [])])];
  return (
    <>
      <FormLine label="The new source" send={() => undefined}>
        <Field label="Name" value={text(source.source)} change={rename} width={190} />
        <OneOf
          label="Type"
          value={form?.title ?? API}
          of={[API, ...forms.map((one) => one.title)]}
          change={(next) =>
            draft.change((docs) =>
              put(
                docs,
                "source",
                startOf(
                  forms.find((one) => one.title === next),
                  text(source.source),
                ),
              ),
            )
          }
        />
      </FormLine>
      {form && <FormFields form={form} source={source} set={set} />}
      {!form && (
        <>
          <FormLine label="Connector" send={() => undefined}>
            <OneOf
              label="Connector"
              value={text(source.connector)}
              of={["", ...names]}
              change={(name) => set(["connector"], name)}
            />
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

/** What a form asks for: all but secrets in one line, each of those in a line of its own. */
function FormFields({ form, source, set }: { form: Form; source: Doc; set: (keys: string[], value: unknown) => void }) {
  const plain = form.fields.filter((field) => !field.secret);
  // What stands alone is a path, and long.
  const width = (field: FormField) => (plain.length === 1 ? 380 : field.number ? 80 : field.key[0] === "url" ? 300 : 170);
  return (
    <>
      <FormLine label="Connection" send={() => undefined}>
        {plain.map((field) => {
          const value = text(under(source, ...field.key));
          return field.values.length > 0 ? (
            <OneOf
              key={field.label}
              label={field.label}
              value={value || (field.values[0] ?? "")}
              of={field.values}
              change={(next) => set(field.key, next === field.values[0] ? undefined : next)}
            />
          ) : (
            <Field
              key={field.label}
              label={field.label}
              value={value}
              change={(next) => set(field.key, field.number ? Number(next) || next : next)}
              width={width(field)}
              placeholder={field.example}
            />
          );
        })}
      </FormLine>
      {form.fields
        .filter((field) => field.secret)
        .map((field) => (
          <SecretField
            key={field.label}
            label={field.label}
            name={text(under(source, ...field.key, "secret"))}
            change={(name) => set(field.key, name ? { secret: name } : undefined)}
          />
        ))}
    </>
  );
}

interface Setting {
  type?: string;
  description?: string;
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
            label={one?.description ? `${name}: ${one.description}` : name}
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
          <SecretField
            key={name}
            label={name}
            name={text(under(source, "settings", name, "secret"))}
            change={(secret) => set(["settings", name], { secret })}
          />
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
        <small>The rights the user of this source needs to read the tables of this feed, and no more.</small>
      </Actions>
      {ask.isError && <Mistakes error={ask.error} />}
      {ask.data && (
        <Script tabIndex={0} aria-label="Statements">
          {ask.data.map((one) => `-- ${one.why}\n${one.sql ? `${one.sql}\n` : ""}`).join("")}
        </Script>
      )}
    </Section>
  );
}
