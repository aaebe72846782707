import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { Feed } from "../lib/api-types";
import { duration, plural } from "../lib/format";
import { rewindCursor } from "../lib/queries";
import { Button } from "../ui/Button";
import { Field, FormLine, OneOf } from "../ui/Field";
import { Section } from "../ui/Page";
import { Hint, Trouble } from "../ui/States";
import { factsOf } from "./Loaded";

/** A table's cursor moved back, so that a part of its source is read once more; what that costs is asked for first. */
export function RewindView({ feed }: { feed: Feed }) {
  const tables = feed.tables.filter((table) => !/[*?[]/.test(table));
  const [table, setTable] = useState(tables[0] ?? "");
  const [to, setTo] = useState("");
  const cache = useQueryClient();
  const look = useMutation({ mutationFn: () => rewindCursor(feed.name, table, to || null, true) });
  const move = useMutation({
    mutationFn: () => rewindCursor(feed.name, table, to || null, false),
    onSuccess: () => {
      look.reset();
      void cache.invalidateQueries({ queryKey: ["plan", feed.name] });
    },
  });
  const change =
    <T,>(put: (value: T) => void) =>
    (value: T) => {
      put(value);
      look.reset();
      move.reset();
    };
  const cost = look.data && [
    look.data.records === null ? "an unknown number of records" : plural(look.data.records, "record"),
    ...(look.data.requests === null ? [] : [plural(look.data.requests, "request")]),
    ...(look.data.seconds === null ? [] : [`roughly ${duration(look.data.seconds)}`]),
  ];
  const error = look.error ?? move.error;
  return (
    <Section>
      <p style={{ margin: 0 }}>
        The next run reads the table once more from there on. Nothing that is loaded goes, and rows that come again are recognised
        by their keys.
      </p>
      <FormLine label="Rewind" send={() => look.mutate()}>
        <OneOf label="Table" value={table} of={tables} change={change(setTable)} />
        <Field
          label="From this value of its cursor on; empty: the beginning"
          value={to}
          change={change(setTo)}
          placeholder="2026-03-01T00:00:00Z"
          width={330}
        />
        <Button type="submit" isPending={look.isPending} isDisabled={!table}>
          Dry run
        </Button>
        <Button onPress={() => move.mutate()} isPending={move.isPending} isDisabled={!look.isSuccess}>
          Rewind
        </Button>
      </FormLine>
      {error && <Trouble facts={factsOf(error)} />}
      {look.data && cost && (
        <Hint>{`It stands at ${look.data.was}. From ${look.data.now ?? "the beginning"} on, the next run would read ${cost.join(", ")}.`}</Hint>
      )}
      {move.data && (
        <Hint>{`${move.data.table} was moved from ${move.data.was} to ${move.data.now ?? "the beginning"}; the next run reads on from there.`}</Hint>
      )}
    </Section>
  );
}
