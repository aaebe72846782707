import { useQuery } from "@tanstack/react-query";
import { type Doc, of, put, text, under, withValue } from "../../lib/draft";
import { warehousesQuery } from "../../lib/queries";
import { Field, FormLine, OneOf } from "../../ui/Field";
import { Section } from "../../ui/Page";
import type { Draft } from "./useDraft";

const RULES = ["none, run by hand", "every", "cron", "for each window", "after another feed"] as const;
type Rule = (typeof RULES)[number];

function ruleOf(feed: Doc): Rule {
  const rule = (feed.schedule ?? {}) as Doc;
  if ("every" in rule) return "every";
  if ("cron" in rule) return "cron";
  if ("windows" in rule) return "for each window";
  return "after" in rule ? "after another feed" : "none, run by hand";
}

const firstOf: Record<Rule, Doc | undefined> = {
  "none, run by hand": undefined,
  every: { every: "15m" },
  cron: { cron: "0 6 * * *", time_zone: Intl.DateTimeFormat().resolvedOptions().timeZone },
  "for each window": { windows: { from: "2026-01-01", length: "1d" } },
  "after another feed": { after: "" },
};

/** The feed's name, where it goes, and when it runs by itself. */
export function FeedStep({ draft, feeds }: { draft: Draft; feeds: string[] }) {
  const warehouses = useQuery(warehousesQuery());
  const feed = of(draft.docs, "feed") ?? { feed: "" };
  const set = (keys: string[], value: unknown) =>
    draft.change((docs) => put(docs, "feed", withValue(of(docs, "feed") ?? feed, keys, value)));
  const rule = ruleOf(feed);
  const field = (label: string, keys: string[], placeholder: string, width = 160) => (
    <Field
      label={label}
      value={text(under(feed, ...keys))}
      change={(value) => set(keys, value)}
      placeholder={placeholder}
      width={width}
    />
  );
  return (
    <Section>
      <FormLine label="The feed" send={() => undefined}>
        {field("Name", ["feed"], "harbour", 190)}
        {field("Description", ["description"], "sailings and bookings", 300)}
      </FormLine>
      <FormLine label="Destination" send={() => undefined}>
        <OneOf
          label="Into"
          value={text(feed.into)}
          of={["", ...(warehouses.data ?? []).map((one) => one.name)]}
          change={(name) => set(["into"], name)}
        />
        {field("Table prefix", ["table_prefix"], "", 150)}
      </FormLine>
      <FormLine label="Schedule" send={() => undefined}>
        <OneOf label="Schedule" value={rule} of={RULES} change={(next) => set(["schedule"], firstOf[next])} />
        {rule === "every" && field("Every", ["schedule", "every"], "15m", 90)}
        {rule === "cron" && field("Minute, hour, day, month, weekday", ["schedule", "cron"], "0 6 * * *", 200)}
        {rule === "cron" && field("Time zone", ["schedule", "time_zone"], "UTC", 170)}
        {rule === "for each window" && field("From", ["schedule", "windows", "from"], "2026-01-01", 120)}
        {rule === "for each window" && field("Length", ["schedule", "windows", "length"], "1d", 90)}
        {rule === "for each window" && field("Delay", ["schedule", "windows", "delay"], "2h", 130)}
        {rule === "after another feed" && (
          <OneOf
            label="After"
            value={text(under(feed, "schedule", "after"))}
            of={["", ...feeds]}
            change={(name) => set(["schedule", "after"], name)}
          />
        )}
        {field("Late when older than", ["fresh_within"], "1h", 120)}
      </FormLine>
    </Section>
  );
}
