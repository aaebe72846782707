import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { Feed } from "../lib/api-types";
import { pauseFeed } from "../lib/queries";
import { Button } from "../ui/Button";

/** Lets a feed with a schedule not run by itself, or run again. */
export function PauseButton({ feed }: { feed: Feed }) {
  const cache = useQueryClient();
  const paused = feed.schedule.paused !== null;
  const move = useMutation({
    mutationFn: () => pauseFeed(feed.name, !paused),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["feeds"] }),
  });
  if (!paused && feed.schedule.rule === null) return null;
  return (
    <Button onPress={() => move.mutate()} isPending={move.isPending} label={`${paused ? "Resume" : "Pause"} ${feed.name}`}>
      {paused ? "Resume" : "Pause"}
    </Button>
  );
}
