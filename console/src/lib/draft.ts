// Definitions that are being written: YAML text is what counts, and forms change it. Plain functions, tested without a browser.
import { type Document, isMap, parseAllDocuments, stringify } from "yaml";

export type Doc = Record<string, unknown>;
export type Kind = "connector" | "source" | "warehouse" | "feed";

/** A source names its connector, and a feed nothing that is a kind: so these are asked in this order. */
const KINDS: Kind[] = ["feed", "source", "warehouse", "connector"];

export const kindOf = (doc: Doc): Kind | undefined => KINDS.find((kind) => kind in doc);

/** How a feed was written, comments included, out of the text of files; "" where none of them holds it. */
export function writtenAs(files: string[], feed: string): string {
  for (const part of files.flatMap((text) => text.split(/^---[ \t]*$/m))) {
    const [doc] = read(part).docs;
    if (doc && kindOf(doc) === "feed" && namesOf(doc).includes(feed)) return `${part.trim()}\n`;
  }
  return "";
}

/** What the feeds are called that a definition makes: one, or one for each of its variants. */
export function namesOf(doc: Doc): string[] {
  const name = String(doc.feed ?? "");
  const sets = Array.isArray(doc.variants) ? doc.variants : [undefined];
  return sets.map((set) =>
    name.replace(/\{variant\.(\w+)\}/g, (whole, key: string) => String((set as Doc | undefined)?.[key] ?? whole)),
  );
}

/** `tables` by name, as forms hold them, out of the list that people write: "sailings", or { table: "boardings", write: "replace" }. */
function byName(doc: Doc): Doc {
  if (!Array.isArray(doc.tables)) return doc;
  const named = doc.tables.map((item: unknown): [string, Doc | null] => {
    if (!isDoc(item)) return [String(item ?? ""), null];
    const { table, as, ...own } = item;
    return [text(as ?? table), as === undefined ? (Object.keys(own).length > 0 ? own : null) : { table, ...own }];
  });
  return { ...doc, tables: Object.fromEntries(named) };
}

/** As people write it: see byName. */
function asList(doc: Doc): Doc {
  if (!isDoc(doc.tables)) return doc;
  const items = Object.entries(doc.tables).map(([name, own]) => {
    if (!isDoc(own) || Object.keys(own).length === 0) return name;
    const { table, ...more } = own;
    // Of a connector, where no table has another name, `table` is no key.
    return table === undefined ? { table: name, ...more } : { table, as: name, ...more };
  });
  return { ...doc, tables: items };
}

export interface Read {
  docs: Doc[];
  /** Why it does not read, in the first place where it does not. */
  problem: string;
}

export function read(text: string): Read {
  const docs: Doc[] = [];
  for (const parsed of parseAllDocuments(text)) {
    const [error] = parsed.errors;
    if (error) return { docs: [], problem: error.message.split("\n")[0] ?? "no YAML" };
    const value: unknown = parsed.toJS();
    if (value === null || value === undefined) continue;
    if (typeof value !== "object" || Array.isArray(value))
      return { docs: [], problem: "a definition is a list of keys and values, `feed: …` first" };
    docs.push(byName(value as Doc));
  }
  return { docs, problem: "" };
}

const LAID_OUT = { lineWidth: 110, nullStr: "", defaultKeyType: "PLAIN" } as const;

export const write = (docs: Doc[]): string => docs.map((doc) => stringify(asList(doc), LAID_OUT)).join("---\n");

/** The same, where it was text before: what did not change stays as it was written, comments included. */
export function rewrite(before: string, docs: Doc[]): string {
  const written = parseAllDocuments(before) as Document[];
  return docs
    .map((doc) => {
      const own = written.find((one) => isMap(one.contents) && kindOf(one.toJS() as Doc) === kindOf(doc));
      if (!own) return stringify(asList(doc), LAID_OUT);
      own.directives = undefined;
      fix(own, [], own.toJS() as Doc, asList(doc));
      return own.toString(LAID_OUT);
    })
    .join("---\n");
}

const isDoc = (value: unknown): value is Doc => typeof value === "object" && value !== null && !Array.isArray(value);

type Step = string | number;

function fix(written: Document, path: Step[], before: Doc, now: Doc): void {
  for (const key of Object.keys(before)) if (!(key in now)) written.deleteIn([...path, key]);
  for (const [key, value] of Object.entries(now)) {
    const was = before[key];
    if (isDoc(was) && isDoc(value)) fix(written, [...path, key], was, value);
    else if (key === "tables" && Array.isArray(was) && Array.isArray(value)) fixTables(written, [...path, key], was, value);
    else if (JSON.stringify(was) !== JSON.stringify(value)) set(written, [...path, key], value);
  }
}

/** A list of tables, each told by its name: those that stay keep what is written beside them. */
function fixTables(written: Document, path: Step[], before: unknown[], now: unknown[]): void {
  const name = (item: unknown) => (isDoc(item) ? text(item.as ?? item.table) : text(item));
  const names = now.map(name);
  for (let place = before.length - 1; place >= 0; place--)
    if (!names.includes(name(before[place]))) written.deleteIn([...path, place]);
  const left = before.filter((item) => names.includes(name(item)));
  for (const item of now) {
    const place = left.findIndex((one) => name(one) === name(item));
    const was = left[place];
    if (place < 0) written.addIn(path, node(written, item));
    else if (isDoc(was) && isDoc(item)) fix(written, [...path, place], was, item);
    else if (JSON.stringify(was) !== JSON.stringify(item)) set(written, [...path, place], item);
  }
}

const set = (written: Document, path: Step[], value: unknown) => written.setIn(path, node(written, value));

const node = (written: Document, value: unknown): unknown =>
  isDoc(value) || Array.isArray(value) ? written.createNode(value) : value;

/** Without the feed, which is not whole yet while its source is being looked at. */
export const sourceOnly = (docs: Doc[]): string => write(docs.filter((doc) => kindOf(doc) !== "feed"));

export const of = (docs: Doc[], kind: Kind): Doc | undefined => docs.find((doc) => kindOf(doc) === kind);

/** The same with one of a kind in place of the one there was; without it where it is null. What is empty is left out. */
export function put(docs: Doc[], kind: Kind, doc: Doc | null): Doc[] {
  const order: Kind[] = ["connector", "source", "warehouse", "feed"];
  const others = docs.filter((one) => kindOf(one) !== kind);
  // What a definition is stays, even where its name is not said yet.
  const kept = doc && {
    [kind]: doc[kind] ?? "",
    ...(kind === "source" && "connector" in doc ? { connector: doc.connector } : {}),
    ...tidy(doc),
  };
  const all = kept ? [...others, inOrder(kept)] : others;
  return all.sort((a, b) => order.indexOf(kindOf(a) ?? "feed") - order.indexOf(kindOf(b) ?? "feed"));
}

const KEYS =
  "feed source connector description type on from into table_prefix url path host port database schema user password settings base_url auth rate_limit changes write deletes nesting tables schedule".split(
    " ",
  );

/** What it is first, what is long last, as people write it. */
function inOrder(doc: Doc): Doc {
  const place = (key: string) => (KEYS.includes(key) ? KEYS.indexOf(key) : KEYS.length);
  return Object.fromEntries(Object.entries(doc).sort(([a], [b]) => place(a) - place(b)));
}

/** Without keys that say nothing: "", [], {} and undefined. null says something: a table with nothing of its own. */
export function tidy(doc: Doc): Doc {
  const kept: Doc = {};
  for (const [key, value] of Object.entries(doc)) {
    if (value === undefined || value === "" || (Array.isArray(value) && value.length === 0)) continue;
    if (value !== null && typeof value === "object" && !Array.isArray(value)) {
      const inner = tidy(value as Doc);
      if (Object.keys(inner).length > 0) kept[key] = inner;
      else if (key !== "settings") kept[key] = null;
    } else kept[key] = value;
  }
  return kept;
}

/** A value below keys; undefined where there is none. */
export function under(doc: Doc | undefined, ...keys: string[]): unknown {
  let value: unknown = doc;
  for (const key of keys) {
    if (value === null || typeof value !== "object") return undefined;
    value = (value as Doc)[key];
  }
  return value;
}

/** The same with a value below keys. */
export function withValue(doc: Doc, keys: string[], value: unknown): Doc {
  const [key, ...rest] = keys;
  if (key === undefined) return doc;
  if (rest.length === 0) return { ...doc, [key]: value };
  const inner = doc[key];
  return { ...doc, [key]: withValue(inner !== null && typeof inner === "object" ? (inner as Doc) : {}, rest, value) };
}

export const text = (value: unknown): string => (value === undefined || value === null ? "" : String(value));

/** A name as definitions and tables may have it: "Order Lines" -> "order_lines" */
export const asName = (words: string): string =>
  words
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "_")
    .replace(/^_+|_+$/g, "")
    .replace(/^(\d)/, "t_$1") || "table";
