import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
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
  return (
    <Button look={look} onPress={() => ask.mutate()} isPending={ask.isPending} label={`Run ${feed.name}`}>
      Run
    </Button>
  );
}
