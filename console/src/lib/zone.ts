// In which zone times are shown: the reader's own, or UTC. One for all pages, kept by the browser.
import { useSyncExternalStore } from "react";

export type Zone = "own" | "UTC";

const KEY = "reed-zone";
const listeners = new Set<() => void>();
let zone: Zone = typeof localStorage !== "undefined" && localStorage.getItem(KEY) === "UTC" ? "UTC" : "own";

export const shownZone = (): Zone => zone;

export function showZone(next: Zone): void {
  zone = next;
  localStorage.setItem(KEY, next);
  for (const tell of listeners) tell();
}

export const useZone = (): Zone =>
  useSyncExternalStore((tell) => {
    listeners.add(tell);
    return () => listeners.delete(tell);
  }, shownZone);

/** "Europe/Berlin" */
export const ownZone = (): string => Intl.DateTimeFormat().resolvedOptions().timeZone;
