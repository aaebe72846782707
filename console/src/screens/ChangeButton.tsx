import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import type { Feed } from "../lib/api-types";
import { write, writtenAs } from "../lib/draft";
import { definitionOf, exportBasket } from "../lib/queries";
import { Button } from "../ui/Button";

/** Where the definition of a feed that is being made, or changed, is kept by the browser. */
export const FEED_DRAFT = "reed-new-feed";

/** Takes the feed's definition to where feeds are made; of one of several out of one definition, that of all of them. */
export function ChangeButton({ feed }: { feed: Feed }) {
  const navigate = useNavigate();
  const take = useMutation({
    mutationFn: async () =>
      writtenAs(Object.values(await exportBasket()), feed.name) || write([(await definitionOf("feed", feed.name)).data]),
    onSuccess: (text) => {
      localStorage.setItem(FEED_DRAFT, text);
      navigate("/new?yaml=1");
    },
  });
  return (
    <Button onPress={() => take.mutate()} isPending={take.isPending}>
      Change
    </Button>
  );
}
