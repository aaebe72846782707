import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import type { SurveyedTable } from "../../lib/api-types";
import { namesOf, of, sourceOnly, text } from "../../lib/draft";
import { plural } from "../../lib/format";
import { applyFiles, askRun, feedsQuery, planDraft, surveyDraft } from "../../lib/queries";
import { Button } from "../../ui/Button";
import { Actions, Page, Section } from "../../ui/Page";
import { Hint } from "../../ui/States";
import { FEED_DRAFT } from "../ChangeButton";
import { TablePlan } from "../PlanView";
import { FeedStep } from "./FeedStep";
import { ShapeStep } from "./ShapeStep";
import { SourceStep } from "./SourceStep";
import { TablesStep } from "./TablesStep";
import { type Draft, useDraft } from "./useDraft";
import { Mistakes, YamlPanel } from "./YamlPanel";

const Steps = styled.ol`
  list-style: none;
  margin: 0;
  padding: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  a {
    display: flex;
    gap: 8px;
    padding: 5px 14px 5px 8px;
    border: 1px solid ${({ theme }) => theme.color.line};
    border-radius: 999px;
    color: ${({ theme }) => theme.color.inkSoft};
    text-decoration: none;
    background: ${({ theme }) => theme.color.surface};
  }
  a b { min-width: 20px; text-align: center; border-radius: 999px; background: ${({ theme }) => theme.color.sunken}; font-weight: 600; }
  a[data-done="true"] b { background: ${({ theme }) => theme.color.goodSoft}; color: ${({ theme }) => theme.color.good}; }
  a[aria-current] { color: ${({ theme }) => theme.color.ink}; font-weight: 600; border-color: ${({ theme }) => theme.color.reed}; }
`;

const FIRST = "feed: \nfrom: \ninto: \ntables:\n";

/** From nothing to rows in the warehouse, in the order of the job. The YAML it makes is one key away, and is what counts. */
export function NewFeed() {
  const draft = useDraft(FEED_DRAFT, FIRST);
  const feeds = useQuery(feedsQuery());
  const [asked, ask] = useSearchParams();
  const feed = of(draft.docs, "feed");
  const known = (feeds.data ?? []).some((one) => feed !== undefined && namesOf(feed).includes(one.name));
  const from = text(feed?.from);
  const tables = Object.keys((feed?.tables ?? {}) as object).length;
  const cache = useQueryClient();
  // What was found is still there when somebody comes back from the workbench.
  const survey = useMutation({
    mutationFn: () => surveyDraft(sourceOnly(draft.docs), from),
    onSuccess: (found) => cache.setQueryData(["offered", from], found),
  });
  const found = survey.data ?? cache.getQueryData<SurveyedTable[]>(["offered", from]) ?? [];
  const steps = [
    { id: "source", title: "Source", done: from !== "" },
    { id: "tables", title: "Tables", done: tables > 0 },
    { id: "shape", title: "Changes and columns", done: tables > 0 },
    { id: "feed", title: "Feed and schedule", done: text(feed?.feed) !== "" && text(feed?.into) !== "" },
    { id: "plan", title: "Plan and create", done: false },
  ];
  const place = Math.max(
    0,
    steps.findIndex((one) => one.id === asked.get("step")),
  );
  const step = steps[place]!;
  const asText = asked.has("yaml");
  const go = (id: string, yaml = asText) => ask({ step: id, ...(yaml ? { yaml: "1" } : {}) });
  const turn = () => go(step.id, !asText);
  useEffect(() => {
    // A letter alone would be typed into fields: with Alt it is one key from anywhere on the page.
    const key = (event: KeyboardEvent) => {
      if (event.altKey && event.key.toLowerCase() === "y") {
        event.preventDefault();
        turn();
      }
    };
    addEventListener("keydown", key);
    return () => removeEventListener("keydown", key);
  });
  return (
    <Page
      title={known ? "Change a feed" : "New feed"}
      about={
        text(feed?.feed)
          ? `${text(feed?.feed)}: ${plural(tables, "table")} from ${from || "no source yet"}`
          : "From a source to rows in a warehouse. What you leave half done is here when you come back."
      }
      actions={
        <>
          <Button look="quiet" onPress={draft.forget}>
            Start over
          </Button>
          <Button onPress={turn}>{asText ? "Forms (Alt Y)" : "YAML (Alt Y)"}</Button>
        </>
      }
    >
      <Steps aria-label="Steps">
        {steps.map((one, number) => (
          <li key={one.id}>
            <Link to={`?step=${one.id}`} aria-current={!asText && one.id === step.id ? "step" : undefined} data-done={one.done}>
              <b>{one.done ? "✓" : number + 1}</b>
              {one.title}
            </Link>
          </li>
        ))}
      </Steps>
      {asText ? (
        <YamlPanel draft={draft} />
      ) : draft.problem ? (
        <Hint>{`What was written does not read as YAML: ${draft.problem}. Fix it there first.`}</Hint>
      ) : (
        <>
          {step.id === "source" && <SourceStep draft={draft} />}
          {step.id === "tables" && <TablesStep draft={draft} survey={survey} found={found} />}
          {step.id === "shape" && <ShapeStep draft={draft} found={found} />}
          {step.id === "feed" && <FeedStep draft={draft} feeds={(feeds.data ?? []).map((one) => one.name)} />}
          {step.id === "plan" && <PlanStep draft={draft} name={text(feed && namesOf(feed)[0])} known={known} />}
          <Actions>
            {place > 0 && <Button onPress={() => go(steps[place - 1]!.id)}>Back</Button>}
            {place < steps.length - 1 && (
              <Button look={step.done ? "main" : "plain"} onPress={() => go(steps[place + 1]!.id)}>
                {`Next: ${steps[place + 1]!.title.toLowerCase()}`}
              </Button>
            )}
          </Actions>
        </>
      )}
    </Page>
  );
}

function PlanStep({ draft, name, known }: { draft: Draft; name: string; known: boolean }) {
  const navigate = useNavigate();
  const cache = useQueryClient();
  const plan = useMutation({ mutationFn: () => planDraft(draft.text, name) });
  const create = useMutation({
    mutationFn: async (run: boolean) => {
      await applyFiles({ [`${name}.yaml`]: draft.text }, false);
      return run ? await askRun(name) : null;
    },
    onSuccess: (run) => {
      draft.forget();
      void cache.invalidateQueries();
      navigate(run ? `/runs/${run.id}` : `/feeds/${name}`);
    },
  });
  return (
    <Section>
      <Actions>
        <Button onPress={() => plan.mutate()} isPending={plan.isPending} isDisabled={!name}>
          Plan it
        </Button>
        <Button look="main" onPress={() => create.mutate(true)} isPending={create.isPending} isDisabled={!name}>
          {known ? "Save and run" : "Create and run"}
        </Button>
        <Button onPress={() => create.mutate(false)} isPending={create.isPending} isDisabled={!name}>
          {known ? "Save" : "Create"}
        </Button>
        <small>A plan asks the source for a page of each table, and writes nothing.</small>
      </Actions>
      {!name && <Hint>Give the feed a name first.</Hint>}
      {plan.isError && <Mistakes error={plan.error} />}
      {create.isError && <Mistakes error={create.error} />}
      {plan.data?.tables.map((table) => (
        <TablePlan key={`${table.warehouse} ${table.table}`} table={table} />
      ))}
    </Section>
  );
}
