// What changed at the service, as it says so itself: one stream for all lists, open as long as the page is seen.
import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { at } from "./base";

/** A stream that the service refuses, since it holds as many as it can, is asked for again this much later. */
const AGAIN_AFTER = 20_000;
/** With the stream open a list is asked for by itself this seldom, in case the stream is silent without having broken. */
const SELDOM = 30_000;

let heard = false;

/** For queries of what changes by itself: asked for when the service says that something changed; so often where it cannot say it. */
export const live = (milliseconds: number) => ({ refetchInterval: () => (heard ? SELDOM : milliseconds), meta: { live: true } });

const renew = (cache: QueryClient) => void cache.invalidateQueries({ predicate: (query) => query.meta?.live === true });

/** Whether the service has stopped answering. Hidden pages hold no stream: a browser opens six connections to a service, whatever the
 *  number of its windows. */
export function useChanges(): boolean {
  const cache = useQueryClient();
  const [silent, setSilent] = useState(false);
  useEffect(() => {
    let source: EventSource | undefined;
    let again: number | undefined;
    const close = () => {
      source?.close();
      source = undefined;
      heard = false;
      window.clearTimeout(again);
    };
    const open = () => {
      source = new EventSource(at("/api/v1/events"));
      source.addEventListener("open", () => setSilent(false));
      source.addEventListener("changed", () => {
        heard = true;
        renew(cache);
      });
      source.addEventListener("error", () => {
        if (heard) {
          heard = false;
          // Each goes back to asking by itself.
          renew(cache);
        }
        // A connection that broke comes back by itself; one that was refused does not, and then the service is there.
        setSilent(source?.readyState === EventSource.CONNECTING);
        if (source?.readyState === EventSource.CLOSED) again = window.setTimeout(open, AGAIN_AFTER);
      });
    };
    const seen = () => {
      close();
      if (document.visibilityState === "visible") open();
    };
    seen();
    document.addEventListener("visibilitychange", seen);
    return () => {
      document.removeEventListener("visibilitychange", seen);
      close();
    };
  }, [cache]);
  return silent;
}
