import { useEffect, useState } from "react";

/** The time, once a second. Tests and screenshots may stop it by setting window.reedNow. */
export function useNow(): number {
  const read = () => (window as { reedNow?: number }).reedNow ?? Date.now();
  const [now, setNow] = useState(read);
  useEffect(() => {
    const timer = setInterval(() => setNow(read()), 1000);
    return () => clearInterval(timer);
  }, []);
  return now;
}
