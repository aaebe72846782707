import { asName, type Doc, of, put, text, under, withValue } from "../../lib/draft";
import { Field, FormLine, OneOf } from "../../ui/Field";
import { SecretField } from "./SecretField";
import type { Draft } from "./useDraft";

const AUTHS = [
  "none",
  "bearer token",
  "API key in a header",
  "user and password (basic)",
  "OAuth 2, client credentials",
] as const;
type Auth = (typeof AUTHS)[number];

/** What each takes: how the connector says it, which settings it has, and what the secret among them is called here. */
const ways: Record<Auth, { auth?: Doc; settings: Doc; secret?: [setting: string, label: string] }> = {
  none: { settings: {} },
  "bearer token": {
    auth: { type: "bearer", token: "{settings.token}" },
    settings: { token: { type: "secret" } },
    secret: ["token", "Token"],
  },
  "API key in a header": {
    auth: { type: "api_key", in: "header", name: "X-Api-Key", key: "{settings.token}" },
    settings: { token: { type: "secret" } },
    secret: ["token", "Key"],
  },
  "user and password (basic)": {
    auth: { type: "basic", user: "{settings.user}", password: "{settings.password}" },
    settings: { user: { type: "text" }, password: { type: "secret" } },
    secret: ["password", "Password"],
  },
  "OAuth 2, client credentials": {
    auth: {
      type: "oauth2",
      token_url: "{settings.url}/oauth/token",
      client_id: "{settings.client_id}",
      client_secret: "{settings.client_secret}",
    },
    settings: { client_id: { type: "text" }, client_secret: { type: "secret" } },
    secret: ["client_secret", "Client secret"],
  },
};

const OURS = new Set(Object.values(ways).flatMap((way) => Object.keys(way.settings)));

function authOf(connector: Doc): Auth {
  const type = text(under(connector, "auth", "type"));
  return AUTHS.find((way) => ways[way].auth?.type === type) ?? "none";
}

const without = (settings: unknown): Doc =>
  Object.fromEntries(Object.entries((settings ?? {}) as Doc).filter(([name]) => !OURS.has(name)));

/** How requests to an API are authenticated; its secret is named, and stored apart. */
export function SignInFields({ draft, connector, source }: { draft: Draft; connector: Doc; source: Doc }) {
  const auth = authOf(connector);
  const { secret } = ways[auth];
  const choose = (next: Auth) =>
    draft.change((docs) => {
      const [now, from, way] = [of(docs, "connector") ?? {}, of(docs, "source") ?? {}, ways[next]];
      const held = way.secret && { [way.secret[0]]: { secret: `${asName(text(from.source))}_${way.secret[0]}` } };
      return put(
        put(docs, "connector", { ...now, auth: way.auth, settings: { ...without(now.settings), ...way.settings } }),
        "source",
        { ...from, settings: { ...without(from.settings), ...held } },
      );
    });
  const set = (kind: "connector" | "source", keys: string[], value: unknown) =>
    draft.change((docs) => put(docs, kind, withValue(of(docs, kind) ?? {}, keys, value)));
  const setting = (name: string, label: string) => (
    <Field
      label={label}
      value={text(under(source, "settings", name))}
      change={(value) => set("source", ["settings", name], value)}
      width={150}
    />
  );
  return (
    <>
      <FormLine label="Credentials" send={() => undefined}>
        <OneOf label="Authentication" value={auth} of={AUTHS} change={choose} />
        {auth === "API key in a header" && (
          <Field
            label="Header"
            value={text(under(connector, "auth", "name"))}
            change={(value) => set("connector", ["auth", "name"], value)}
            width={150}
          />
        )}
        {auth === "user and password (basic)" && setting("user", "User")}
        {auth === "OAuth 2, client credentials" && (
          <>
            {setting("client_id", "Client id")}
            <Field
              label="Tokens are fetched from"
              value={text(under(connector, "auth", "token_url"))}
              change={(value) => set("connector", ["auth", "token_url"], value)}
              width={230}
            />
          </>
        )}
      </FormLine>
      {secret && (
        <SecretField
          label={secret[1]}
          name={text(under(source, "settings", secret[0], "secret"))}
          change={(name) => set("source", ["settings", secret[0]], { secret: name })}
        />
      )}
    </>
  );
}
