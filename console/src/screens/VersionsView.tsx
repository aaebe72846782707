import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { ago } from "../lib/format";
import { revert, versionsQuery } from "../lib/queries";
import { Button } from "../ui/Button";
import { Choices } from "../ui/Choices";
import { useNow } from "../ui/now";
import { Actions } from "../ui/Page";
import { Trouble } from "../ui/States";
import { factsOf, Loaded } from "./Loaded";

const Two = styled.div`
  display: grid;
  grid-template-columns: 240px minmax(0, 1fr);
  gap: ${({ theme }) => theme.space.l};
`;

const Text = styled.pre`
  margin: 0;
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  padding: ${({ theme }) => theme.space.m};
  font-family: ${({ theme }) => theme.font.mono};
  font-size: ${({ theme }) => theme.size.small};
  overflow: auto;
  max-height: 60vh;
  [data-sign="+"] { color: ${({ theme }) => theme.color.good}; }
  [data-sign="-"] { color: ${({ theme }) => theme.color.bad}; }
  [data-sign="@"] { color: ${({ theme }) => theme.color.inkFaint}; }
`;

/** How the feed's definition changed, and by whom; any version can be put in force again. */
export function VersionsView({ feed }: { feed: string }) {
  const versions = useQuery(versionsQuery("feed", feed));
  const cache = useQueryClient();
  const now = useNow();
  const [chosen, choose] = useState("");
  const back = useMutation({
    mutationFn: (version: number) => revert("feed", feed, version),
    onSuccess: () => cache.invalidateQueries(),
  });
  return (
    <Loaded query={versions} what="versions">
      {(found) => {
        const shown = found.find((one) => String(one.version) === chosen) ?? found[0]!;
        return (
          <Two>
            <Choices
              label="Versions"
              items={found.map((one) => ({
                id: String(one.version),
                under: `${one.removed ? "removed, " : ""}${ago(one.applied_at, now)}${one.applied_by ? ` by ${one.applied_by}` : ""}`,
              }))}
              chosen={String(shown.version)}
              choose={choose}
            />
            <div>
              <Actions>
                <span>{`Version ${shown.version}${shown.version > 1 ? " against the one before" : ", the first"}, from ${shown.file}`}</span>
                {shown.version !== found[0]!.version && !shown.removed && (
                  <Button onPress={() => back.mutate(shown.version)} isPending={back.isPending}>
                    Restore this version
                  </Button>
                )}
              </Actions>
              {back.isError && <Trouble facts={factsOf(back.error)} />}
              <Text tabIndex={0} aria-label="Difference">
                {shown.diff.split("\n").map((line, place) => (
                  <div key={place} data-sign={line[0]}>
                    {line || " "}
                  </div>
                ))}
              </Text>
            </div>
          </Two>
        );
      }}
    </Loaded>
  );
}
