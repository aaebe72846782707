import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import type { Extract, ExtractedTable, Feed } from "../lib/api-types";
import { ago, count, size } from "../lib/format";
import { askExtract, extractFile, extractsQuery, removeExtract } from "../lib/queries";
import { Button } from "../ui/Button";
import { Grid } from "../ui/Grid";
import { useNow } from "../ui/now";
import { Actions, Section } from "../ui/Page";
import { Trouble } from "../ui/States";
import { factsOf, Loaded } from "./Loaded";

/** The feed's records as files: those that are kept, to be taken along, and a new one. */
export function ExtractsView({ feed }: { feed: Feed }) {
  const extracts = useQuery(extractsQuery());
  const navigate = useNavigate();
  const ask = useMutation({ mutationFn: () => askExtract(feed.name), onSuccess: (run) => navigate(`/runs/${run.id}`) });
  return (
    <Section>
      <Actions>
        <Button onPress={() => ask.mutate()} isPending={ask.isPending}>
          Write an extract
        </Button>
        <small>
          A run that reads everything from the beginning into Parquet files. The warehouse, cursors and freshness stay as they
          are.
        </small>
      </Actions>
      {ask.isError && <Trouble facts={factsOf(ask.error)} />}
      <Loaded query={extracts} what="extracts">
        {(found) => {
          const own = found.filter((extract) => extract.feed === feed.name);
          if (own.length === 0)
            return <p>No extract is stored. Write one: its run shows like any other, and its files are then here.</p>;
          return own.map((extract) => <Kept key={extract.name} extract={extract} />);
        }}
      </Loaded>
    </Section>
  );
}

function Kept({ extract }: { extract: Extract }) {
  const now = useNow();
  const cache = useQueryClient();
  const remove = useMutation({
    mutationFn: () => removeExtract(extract.name),
    onSuccess: () => cache.invalidateQueries({ queryKey: extractsQuery().queryKey }),
  });
  return (
    <Section>
      <Actions>
        <b>{extract.name}</b>
        <small>{`written ${ago(extract.ended, now)}`}</small>
        <a href={extractFile(extract.name, "manifest.json")} download>
          manifest.json
        </a>
        <Button look="quiet" onPress={() => remove.mutate()} isPending={remove.isPending} label={`Remove ${extract.name}`}>
          Remove
        </Button>
      </Actions>
      {remove.isError && <Trouble facts={factsOf(remove.error)} />}
      <Grid<ExtractedTable>
        label={`Files of ${extract.name}`}
        rows={extract.tables}
        id={(table) => table.name}
        empty="No tables."
        columns={[
          {
            name: "File",
            show: (table) => (
              <a href={extractFile(extract.name, table.file)} download>
                {table.file}
              </a>
            ),
            width: "30%",
          },
          { name: "Rows", show: (table) => count(table.rows), end: true, width: "12%" },
          { name: "Size", show: (table) => size(table.bytes), end: true, width: "12%" },
          { name: "Key", show: (table) => table.key.join(", "), width: "22%" },
          { name: "Cursor", show: (table) => table.cursor?.value ?? "", mono: true, width: "24%" },
        ]}
      />
    </Section>
  );
}
