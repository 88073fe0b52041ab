import { createContext, useContext, useEffect, useMemo, useState } from 'react';
import type { ReactNode } from 'react';
import { useLocation, useNavigate } from 'react-router';
import { USUAL, parsed, written } from './range';
import type { Range } from './range';

export type Zone = 'local' | 'utc';

interface TimeScope {
  /** The zone of every time that is shown. */
  zone: Zone;
  setZone: (zone: Zone) => void;
  /** The range of every view that shows one. */
  range: Range;
  /** The same as the address has it. */
  rangeText: string;
  setRange: (range: Range) => void;
}

const ZONE = 'itinera-zone';

const Context = createContext<TimeScope>({
  zone: 'local',
  setZone: () => undefined,
  range: USUAL,
  rangeText: written(USUAL),
  setRange: () => undefined,
});

/** Range and zone of all views. */
export function useTimeScope(): TimeScope {
  return useContext(Context);
}

function zoneOf(text: string | null): Zone | null {
  return text === 'utc' || text === 'local' ? text : null;
}

/**
 * Keeps range and zone in the address: that of the page decides, and a page that is opened without them
 * gets those of the page before.
 */
export function TimeScopeProvider({ children }: { children: ReactNode }) {
  const { pathname, search, hash } = useLocation();
  const navigate = useNavigate();
  const [last, setLast] = useState({
    rangeText: written(USUAL),
    zone: zoneOf(window.localStorage.getItem(ZONE)) ?? 'local',
  });
  const asked = new URLSearchParams(search);
  const askedRange = parsed(asked.get('range'));
  const rangeText = askedRange === null ? last.rangeText : written(askedRange);
  const zone = zoneOf(asked.get('zone')) ?? last.zone;
  if (rangeText !== last.rangeText || zone !== last.zone) setLast({ rangeText, zone });

  useEffect(() => {
    const wanted = new URLSearchParams(search);
    if (wanted.get('range') === rangeText && wanted.get('zone') === zone) return;
    wanted.set('range', rangeText);
    wanted.set('zone', zone);
    void navigate({ pathname, search: `?${wanted}`, hash }, { replace: true });
  }, [pathname, search, hash, rangeText, zone, navigate]);

  const value = useMemo(() => {
    const change = (key: string, text: string) => {
      const next = new URLSearchParams(search);
      next.set(key, text);
      void navigate({ pathname, search: `?${next}`, hash });
    };
    return {
      zone,
      setZone: (next: Zone) => {
        window.localStorage.setItem(ZONE, next);
        change('zone', next);
      },
      range: parsed(rangeText) ?? USUAL,
      rangeText,
      setRange: (next: Range) => change('range', written(next)),
    };
  }, [pathname, search, hash, rangeText, zone, navigate]);
  return <Context.Provider value={value}>{children}</Context.Provider>;
}
