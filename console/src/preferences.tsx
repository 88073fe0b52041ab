import { createContext, useContext, useMemo, useState } from 'react';
import type { ReactNode } from 'react';

export type Zone = 'local' | 'utc';

interface Preferences {
  /** The zone of every time that is shown. */
  zone: Zone;
  setZone: (zone: Zone) => void;
  /** Whether single letters open pages. */
  shortcuts: boolean;
  setShortcuts: (on: boolean) => void;
}

const ZONE = 'itinera-zone';
const SHORTCUTS = 'itinera-shortcuts';

const Context = createContext<Preferences>({
  zone: 'local',
  setZone: () => undefined,
  shortcuts: true,
  setShortcuts: () => undefined,
});

/** The reader's choices, kept in this browser. */
export function usePreferences(): Preferences {
  return useContext(Context);
}

export function PreferencesProvider({ children }: { children: ReactNode }) {
  const [zone, setZone] = useState<Zone>(
    window.localStorage.getItem(ZONE) === 'utc' ? 'utc' : 'local',
  );
  const [shortcuts, setShortcuts] = useState(window.localStorage.getItem(SHORTCUTS) !== 'off');
  const value = useMemo(
    () => ({
      zone,
      setZone: (next: Zone) => {
        window.localStorage.setItem(ZONE, next);
        setZone(next);
      },
      shortcuts,
      setShortcuts: (on: boolean) => {
        window.localStorage.setItem(SHORTCUTS, on ? 'on' : 'off');
        setShortcuts(on);
      },
    }),
    [zone, shortcuts],
  );
  return <Context.Provider value={value}>{children}</Context.Provider>;
}
