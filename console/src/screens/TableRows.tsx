import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import styled from "styled-components";
import { count } from "../lib/format";
import { rowsQuery, tablesQuery } from "../lib/queries";
import { Button } from "../ui/Button";
import { Page, Section } from "../ui/Page";
import { Tabs } from "../ui/Tabs";
import { Loaded } from "./Loaded";
import { ProfileView } from "./ProfileView";
import { RowsGrid } from "./RowsGrid";
import { VerifyView } from "./VerifyView";

const PAGE = 50;

const Line = styled.div`
  display: flex;
  gap: ${({ theme }) => theme.space.m};
  align-items: center;
`;

export function TableRows() {
  const { warehouse = "", table = "" } = useParams();
  const known = useQuery(tablesQuery(warehouse)).data?.find((t) => t.name === table);
  return (
    <Page
      title={table}
      about={
        <>
          <Link to={`/warehouses/${warehouse}`}>{warehouse}</Link>
          {known && ` · ${count(known.rows)} rows, ${known.columns.length} columns`} · the latest loaded first
        </>
      }
    >
      <Tabs
        label="About the table"
        items={[
          { id: "rows", title: "Rows", body: <Rows warehouse={warehouse} table={table} /> },
          { id: "profile", title: "Profile", body: <ProfileView warehouse={warehouse} table={table} /> },
          ...(known?.feed && known.source_table
            ? [
                {
                  id: "compare",
                  title: "Compare with the source",
                  body: <VerifyView feed={known.feed} table={known.source_table} />,
                },
              ]
            : []),
        ]}
      />
    </Page>
  );
}

function Rows({ warehouse, table }: { warehouse: string; table: string }) {
  const [offset, setOffset] = useState(0);
  const rows = useQuery(rowsQuery(warehouse, table, offset, PAGE));
  return (
    <Loaded query={rows} what="rows">
      {(found) => (
        <Section>
          <RowsGrid label={`Rows of ${table}`} rows={found} height="calc(100vh - 220px)" />
          <Line>
            <Button onPress={() => setOffset(Math.max(0, offset - PAGE))} isDisabled={offset === 0}>
              Newer
            </Button>
            <Button onPress={() => setOffset(offset + PAGE)} isDisabled={!found.truncated}>
              Older
            </Button>
            <span role="status">
              {found.rows.length > 0 && `Rows ${count(offset + 1)} to ${count(offset + found.rows.length)}`}
            </span>
          </Line>
        </Section>
      )}
    </Loaded>
  );
}
