import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import styled from "styled-components";
import { ApiError } from "../lib/api";
import type { Feed } from "../lib/api-types";
import { askRun } from "../lib/queries";
import { Button } from "../ui/Button";

/** Runs a feed and goes to the run; where one is going already, goes to that. */
export function RunButton({ feed, look = "main" }: { feed: Feed; look?: "main" | "plain" }) {
  const navigate = useNavigate();
  const cache = useQueryClient();
  const ask = useMutation({
    mutationFn: () => askRun(feed.name),
    onSuccess: (run) => navigate(`/runs/${run.id}`),
    onError: (error) => {
      const going = error instanceof ApiError ? (error.problem.details as { run?: number } | null)?.run : undefined;
      if (going) navigate(`/runs/${going}`);
      else void cache.invalidateQueries({ queryKey: ["feeds"] });
    },
  });
  // In a table of hundreds, a plain one: the richer kind is weighed anew with every letter of a search.
  if (look === "plain")
    return (
      <Small type="button" onClick={() => ask.mutate()} disabled={ask.isPending} aria-label={`Run ${feed.name}`}>
        Run
      </Small>
    );
  return (
    <Button look={look} onPress={() => ask.mutate()} isPending={ask.isPending} label={`Run ${feed.name}`}>
      Run
    </Button>
  );
}

const Small = styled.button`
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  color: inherit;
  font: inherit;
  font-weight: 600;
  padding: 2px 14px;
  cursor: pointer;
  &:hover { border-color: ${({ theme }) => theme.color.inkFaint}; }
  &:disabled { opacity: 0.6; }
`;
