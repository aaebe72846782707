import { useCallback, useMemo, useState } from "react";
import { type Doc, read, rewrite } from "../../lib/draft";

export interface Draft {
  text: string;
  docs: Doc[];
  problem: string;
  setText: (text: string) => void;
  change: (change: (docs: Doc[]) => Doc[]) => void;
  forget: () => void;
}

/** Kept by the browser: who leaves and comes back finds it as it was. */
export function useDraft(key: string, first: string): Draft {
  const [text, put] = useState(() => localStorage.getItem(key) ?? first);
  const { docs, problem } = useMemo(() => read(text), [text]);
  const setText = useCallback(
    (next: string) => {
      localStorage.setItem(key, next);
      put(next);
    },
    [key],
  );
  const change = useCallback(
    (how: (docs: Doc[]) => Doc[]) =>
      put((before) => {
        const now = read(before);
        if (now.problem) return before;
        const next = rewrite(before, how(now.docs));
        localStorage.setItem(key, next);
        return next;
      }),
    [key],
  );
  const forget = useCallback(() => {
    localStorage.removeItem(key);
    put(first);
  }, [key, first]);
  return { text, docs, problem, setText, change, forget };
}
