import { createContext, useContext, useMemo, useState } from 'react';
import type { ReactNode } from 'react';

interface Preferences {
  /** Whether single letters open pages. */
  shortcuts: boolean;
  setShortcuts: (on: boolean) => void;
}

const SHORTCUTS = 'itinera-shortcuts';

const Context = createContext<Preferences>({
  shortcuts: true,
  setShortcuts: () => undefined,
});

/** The reader's choices, kept in this browser. */
export function usePreferences(): Preferences {
  return useContext(Context);
}

export function PreferencesProvider({ children }: { children: ReactNode }) {
  const [shortcuts, setShortcuts] = useState(window.localStorage.getItem(SHORTCUTS) !== 'off');
  const value = useMemo(
    () => ({
      shortcuts,
      setShortcuts: (on: boolean) => {
        window.localStorage.setItem(SHORTCUTS, on ? 'on' : 'off');
        setShortcuts(on);
      },
    }),
    [shortcuts],
  );
  return <Context.Provider value={value}>{children}</Context.Provider>;
}
