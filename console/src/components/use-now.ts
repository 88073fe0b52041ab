import { useEffect, useState } from 'react';

/** How often durations that still run are updated. */
const EVERY_MS = 10_000;

/** The present time, kept up to date while shown. */
export function useNow(): string {
  const [now, setNow] = useState(() => new Date().toISOString());
  useEffect(() => {
    const timer = setInterval(() => setNow(new Date().toISOString()), EVERY_MS);
    return () => clearInterval(timer);
  }, []);
  return now;
}
