import { useEffect, useState } from "react";

const read = () => (window as { reedNow?: number }).reedNow ?? Date.now();

/** The time, once a second. Tests and screenshots may stop it by setting window.reedNow. */
export function useNow(every = 1000): number {
  const [now, setNow] = useState(read);
  useEffect(() => {
    const timer = setInterval(() => setNow(read()), every);
    return () => clearInterval(timer);
  }, [every]);
  return now;
}
