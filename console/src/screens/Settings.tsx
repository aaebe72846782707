import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { AuditLine, Notification, SecretName, Setting, Token, User } from "../lib/api-types";
import { ago, moment } from "../lib/format";
import {
  addUser,
  auditQuery,
  changeSetting,
  changeUser,
  endToken,
  makeToken,
  notificationsAgain,
  notificationsQuery,
  secretsQuery,
  sessionQuery,
  settingsQuery,
  tokensQuery,
  usersQuery,
} from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Button } from "../ui/Button";
import { Field, FormLine, InRow, InRowInput, OneOf } from "../ui/Field";
import { Grid } from "../ui/Grid";
import { useNow } from "../ui/now";
import { Actions, Page, Section } from "../ui/Page";
import { Hint, Trouble } from "../ui/States";
import { Tabs } from "../ui/Tabs";
import { factsOf, Loaded } from "./Loaded";

const ROLES = ["viewer", "operator", "editor", "admin"] as const;
type Role = (typeof ROLES)[number];

/** Who may come in, who changed what, who heard of what. */
export function Settings() {
  const session = useQuery(sessionQuery());
  return (
    <Page title="Settings" about={session.data && `You are ${session.data.name}, with the role ${session.data.role}.`}>
      <Loaded query={session} what="your session">
        {(who) => (
          <Tabs
            label="Settings"
            items={[
              { id: "notifications", title: "Notifications", body: <Notifications may={who.role !== "viewer"} /> },
              { id: "secrets", title: "Secrets", body: <Secrets /> },
              ...(who.role === "admin"
                ? [
                    { id: "users", title: "Users", body: <Users /> },
                    { id: "tokens", title: "Tokens", body: <Tokens /> },
                    { id: "audit", title: "Audit log", body: <Audit /> },
                    { id: "service", title: "Service", body: <Service /> },
                  ]
                : []),
            ]}
          />
        )}
      </Loaded>
    </Page>
  );
}

const serviceWords: Record<string, string> = {
  workers: "runs at once (worker processes)",
  threads: "requests answered at once (threads)",
  keep_days: "days requests are kept",
  keep_runs_days: "days runs, their logs and drift are kept",
  keep_rejects_days: "days rejects are kept",
  keep_audit_days: "days the audit log is kept",
  grace_seconds: "seconds runs may take to end when the service stops",
  notification_seconds: "seconds notifications are gathered before they are sent",
  mail_server: "mail server",
  mail_to: "who gets mail where a feed names nobody",
  public_url: "the address people use",
};

/** What it goes by: for how long things are kept can be changed here, all else by starting it anew. */
function Service() {
  const settings = useQuery(settingsQuery());
  const cache = useQueryClient();
  const change = useMutation({
    mutationFn: ([name, value]: [string, number | null]) => changeSetting(name, value),
    onSuccess: (found) => cache.setQueryData(settingsQuery().queryKey, found),
  });
  return (
    <Loaded query={settings} what="settings">
      {(found) => (
        <Section>
          <p style={{ margin: 0 }}>
            Each is an option of <code>reed serve</code>, and an environment variable. For how long things are kept can be changed
            here; what is older goes within the hour.
          </p>
          {change.isError && <Trouble facts={factsOf(change.error)} />}
          <Grid<Setting>
            label="Service settings"
            rows={found}
            id={(one) => one.name}
            empty=""
            columns={[
              { name: "Option", show: (one) => `--${one.name.replaceAll("_", "-")}`, mono: true, width: "22%" },
              {
                name: "Is",
                show: (one) =>
                  one.changeable ? (
                    <Days key={one.value} setting={one} change={(value) => change.mutate([one.name, value])} />
                  ) : (
                    one.value || "·"
                  ),
                width: "36%",
              },
              { name: "Meaning", show: (one) => serviceWords[one.name] ?? "", width: "42%" },
            ]}
          />
        </Section>
      )}
    </Loaded>
  );
}

function Days({ setting, change }: { setting: Setting; change: (value: number | null) => void }) {
  const [value, setValue] = useState(setting.value);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        change(Number(value));
      }}
      style={{ display: "flex", gap: 8, alignItems: "center" }}
    >
      <InRowInput
        type="number"
        min={1}
        required
        aria-label={`Days of ${setting.name.replaceAll("_", " ")}`}
        value={value}
        onChange={(event) => setValue(event.target.value)}
      />
      {value !== setting.value && <InRow type="submit">Change</InRow>}
      {setting.began_with !== null && (
        <InRow type="button" onClick={() => change(null)}>
          {`Back to ${setting.began_with}`}
        </InRow>
      )}
    </form>
  );
}

const notificationTones = { sent: "good", undeliverable: "bad", waiting: "busy" } as const;

function Notifications({ may }: { may: boolean }) {
  const notifications = useQuery(notificationsQuery());
  const cache = useQueryClient();
  const now = useNow();
  const again = useMutation({
    mutationFn: notificationsAgain,
    onSuccess: () => cache.invalidateQueries({ queryKey: ["notifications"] }),
  });
  return (
    <Loaded query={notifications} what="notifications">
      {(found) => (
        <Section>
          {may && found.some((one) => one.state === "undeliverable") && (
            <Actions>
              <Button onPress={() => again.mutate()} isPending={again.isPending}>
                Try the undeliverable again
              </Button>
            </Actions>
          )}
          <Grid<Notification>
            label="Notifications"
            rows={found}
            id={(one) => one.id}
            empty="None. Feeds that fail tell whom their `notify` names, or whom the service was started with."
            height="66vh"
            columns={[
              { name: "When", show: (one) => ago(one.at, now), width: "12%" },
              { name: "Event", show: (one) => one.event, width: "11%" },
              { name: "Feed", show: (one) => one.feed, width: "16%" },
              { name: "To", show: (one) => <span title={one.goes_to}>{one.goes_to}</span>, width: "23%" },
              { name: "State", show: (one) => <Badge word={one.state} tone={notificationTones[one.state]} />, width: "13%" },
              { name: "Problem", show: (one) => <span title={one.problem}>{one.problem}</span>, width: "25%" },
            ]}
          />
        </Section>
      )}
    </Loaded>
  );
}

function Secrets() {
  const secrets = useQuery(secretsQuery());
  return (
    <Loaded query={secrets} what="secrets">
      {(found) => (
        <Grid<SecretName>
          label="Secrets"
          rows={found}
          id={(one) => one.name}
          empty={
            <>
              None. Set one with <code>reed secret set NAME</code>; it is encrypted, and never shown.
            </>
          }
          columns={[
            { name: "Name", show: (one) => <b>{one.name}</b>, width: "40%" },
            {
              name: "Stored in",
              show: (one) => (one.kept === "store" ? "the store, encrypted" : `the service's ${one.kept}`),
              width: "30%",
            },
            { name: "Changed", show: (one) => moment(one.changed_at), width: "30%" },
          ]}
        />
      )}
    </Loaded>
  );
}

function Users() {
  const users = useQuery(usersQuery());
  const cache = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const renew = () => cache.invalidateQueries({ queryKey: ["users"] });
  const add = useMutation({
    mutationFn: () => addUser(name, role, password),
    onSuccess: () => {
      setName("");
      setPassword("");
      return renew();
    },
  });
  const change = useMutation({ mutationFn: ([who, what]: [string, object]) => changeUser(who, what), onSuccess: renew });
  const error = add.error ?? change.error;
  return (
    <Section>
      <FormLine label="Add a user" send={() => add.mutate()}>
        <Field label="Name" value={name} change={setName} width={150} />
        <Field
          label="Password, ten characters at least"
          value={password}
          change={setPassword}
          type="password"
          autoComplete="new-password"
          width={230}
        />
        <OneOf label="Role" value={role} of={ROLES} change={setRole} />
        <Button type="submit" isPending={add.isPending} isDisabled={!name || password.length < 10}>
          Add
        </Button>
      </FormLine>
      {error && <Trouble facts={factsOf(error)} />}
      <Loaded query={users} what="users">
        {(found) => (
          <Grid<User>
            label="Users"
            rows={found}
            id={(one) => one.name}
            empty="Nobody signs in by name yet. A viewer looks, an operator runs and pauses, an editor changes definitions and secrets, an admin lets people in."
            columns={[
              { name: "Name", show: (one) => <b>{one.name}</b>, width: "26%" },
              {
                name: "Role",
                show: (one) => (
                  <select
                    aria-label={`Role of ${one.name}`}
                    value={one.role}
                    onChange={(event) => change.mutate([one.name, { role: event.target.value }])}
                  >
                    {ROLES.map((each) => (
                      <option key={each}>{each}</option>
                    ))}
                  </select>
                ),
                width: "20%",
              },
              {
                name: "State",
                show: (one) => (
                  <Badge
                    word={one.disabled ? "disabled" : one.openid ? "by OpenID Connect" : "may sign in"}
                    tone={one.disabled ? "warn" : "good"}
                  />
                ),
                width: "18%",
              },
              { name: "Added", show: (one) => moment(one.created_at), width: "22%" },
              {
                name: "Enable or disable",
                quiet: true,
                show: (one) => (
                  <InRow type="button" onClick={() => change.mutate([one.name, { disabled: !one.disabled }])}>
                    {one.disabled ? "Enable" : "Disable"}
                  </InRow>
                ),
                width: "14%",
              },
            ]}
          />
        )}
      </Loaded>
    </Section>
  );
}

function Tokens() {
  const tokens = useQuery(tokensQuery());
  const cache = useQueryClient();
  const now = useNow();
  const [label, setLabel] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const renew = () => cache.invalidateQueries({ queryKey: ["tokens"] });
  const make = useMutation({ mutationFn: () => makeToken(label, role), onSuccess: renew });
  const end = useMutation({ mutationFn: endToken, onSuccess: renew });
  const error = make.error ?? end.error;
  return (
    <Section>
      <FormLine label="New token" send={() => make.mutate()}>
        <Field label="Label" value={label} change={setLabel} width={200} />
        <OneOf label="Role" value={role} of={ROLES} change={setRole} />
        <Button type="submit" isPending={make.isPending} isDisabled={!label}>
          Create token
        </Button>
      </FormLine>
      {make.data && (
        <Hint>
          Shown this once: <code>{make.data.token}</code>
        </Hint>
      )}
      {error && <Trouble facts={factsOf(error)} />}
      <Loaded query={tokens} what="tokens">
        {(found) => (
          <Grid<Token>
            label="Tokens"
            rows={found}
            id={(one) => one.id}
            empty="None."
            columns={[
              { name: "Label", show: (one) => <b>{one.label}</b>, width: "26%" },
              { name: "Role", show: (one) => one.role, width: "12%" },
              { name: "Used", show: (one) => ago(one.used_at, now), width: "16%" },
              { name: "Ends", show: (one) => (one.ends_at ? moment(one.ends_at) : "never"), width: "18%" },
              { name: "Created by", show: (one) => one.made_by, width: "18%" },
              {
                name: "End",
                quiet: true,
                show: (one) => (
                  <InRow type="button" onClick={() => end.mutate(one.id)} aria-label={`End ${one.label}`}>
                    End
                  </InRow>
                ),
                width: "10%",
              },
            ]}
          />
        )}
      </Loaded>
    </Section>
  );
}

function Audit() {
  const audit = useQuery(auditQuery());
  return (
    <Loaded query={audit} what="the audit log">
      {(found) => (
        <Grid<AuditLine>
          label="Audit log"
          rows={found}
          id={(one) => one.id}
          empty="Nothing was changed yet."
          height="66vh"
          columns={[
            { name: "When", show: (one) => moment(one.at), width: "17%" },
            { name: "Who", show: (one) => one.who, width: "18%" },
            {
              name: "What",
              show: (one) => (one.status < 400 ? one.what : <Badge word={`${one.what}: refused`} tone="bad" />),
              width: "18%",
            },
            { name: "On", show: (one) => one.on, width: "17%" },
            { name: "Details", show: (one) => <span title={one.details}>{one.details}</span>, width: "30%" },
          ]}
        />
      )}
    </Loaded>
  );
}
