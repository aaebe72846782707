// A run as it goes: one reducer over the service's events. A lost connection keeps the last figures and says so.
import type { LogLine, Run } from "./api-types";
import { at } from "./base";

/** Lines kept in the page; the whole log stays with the service. */
export const MOST_LINES = 1000;

export interface Live {
  run: Run | null;
  lines: LogLine[];
  cut: number;
  connection: "connecting" | "live" | "ended" | "lost";
}

export type Action =
  | { type: "run"; run: Run }
  | { type: "log"; lines: LogLine[] }
  | { type: "end" }
  | { type: "lost" }
  | { type: "open" };

export const start: Live = { run: null, lines: [], cut: 0, connection: "connecting" };

export function reduce(state: Live, action: Action): Live {
  switch (action.type) {
    case "open":
      return { ...state, connection: "live" };
    case "run":
      return { ...state, run: action.run, connection: "live" };
    case "log": {
      // After a broken connection the service may send lines that are here already.
      const last = state.lines.at(-1)?.number ?? 0;
      const lines = [...state.lines, ...action.lines.filter((line) => line.number > last)];
      const cut = Math.max(0, lines.length - MOST_LINES);
      return { ...state, lines: lines.slice(cut), cut: state.cut + cut };
    }
    case "end":
      return { ...state, connection: "ended" };
    case "lost":
      return state.connection === "ended" ? state : { ...state, connection: "lost" };
  }
}

/** Follow a run; returns the function that stops following. The browser reconnects by itself, from the last line's id. */
export function follow(run: number, tell: (action: Action) => void): () => void {
  const source = new EventSource(at(`/api/v1/runs/${run}/events`));
  const data = (event: Event) => JSON.parse((event as MessageEvent<string>).data) as unknown;
  source.addEventListener("open", () => tell({ type: "open" }));
  source.addEventListener("run", (event) => tell({ type: "run", run: data(event) as Run }));
  source.addEventListener("log", (event) => tell({ type: "log", lines: data(event) as LogLine[] }));
  source.addEventListener("end", () => {
    tell({ type: "end" });
    source.close();
  });
  source.addEventListener("error", () => tell({ type: "lost" }));
  return () => source.close();
}
