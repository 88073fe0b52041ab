import { theme as antd } from 'antd';
import type { ThemeConfig } from 'antd';

export type Mode = 'light' | 'dark';

/** Ink and ground of everything, by mode; page.css gives the same to what we draw ourselves. */
const palettes = {
  light: { text: '#1c2a33', quiet: '#55656f', ground: '#ffffff', line: '#24566b' },
  dark: { text: '#e6ecf0', quiet: '#a9b8c2', ground: '#12181d', line: '#7fb8cf' },
} as const;

/** What our own drawings use; the values change with the mode. */
export const ink = {
  text: 'var(--text)',
  quiet: 'var(--quiet)',
  faint: 'var(--faint)',
  ground: 'var(--ground)',
  band: 'var(--band)',
  line: 'var(--line)',
  other: 'var(--other)',
} as const;

/** Departure from a path's own normal, as usual to far off; "as usual" disappears in the ground. */
export const departures = [0, 1, 2, 3, 4].map((step) => `var(--departure-${step})`);
export const departureInk = [0, 1, 2, 3, 4].map((step) => `var(--departure-ink-${step})`);
export const departureWords = ['as usual', 'a little off', 'off', 'well off', 'far off'] as const;

export function themeOf(mode: Mode): ThemeConfig {
  const palette = palettes[mode];
  return {
    algorithm: mode === 'dark' ? antd.darkAlgorithm : antd.defaultAlgorithm,
    token: {
      colorPrimary: mode === 'dark' ? '#3d87a3' : palette.line,
      colorLink: palette.line,
      colorText: palette.text,
      colorTextSecondary: palette.quiet,
      colorTextTertiary: palette.quiet,
      colorTextDescription: palette.quiet,
      colorTextPlaceholder: palette.quiet,
      colorBgBase: palette.ground,
      fontFamily: "'Source Sans 3 Variable', 'DejaVu Sans', sans-serif",
      fontSize: 15,
      borderRadius: 4,
      motion: !window.matchMedia('(prefers-reduced-motion: reduce)').matches,
    },
  };
}

const KEY = 'itinera-mode';

/** The mode chosen before, or the one the reader's system asks for. */
export function firstMode(): Mode {
  const kept = window.localStorage.getItem(KEY);
  if (kept === 'light' || kept === 'dark') return kept;
  return window.matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light';
}

export function applyMode(mode: Mode): void {
  document.documentElement.dataset.mode = mode;
}

export function keepMode(mode: Mode): void {
  window.localStorage.setItem(KEY, mode);
}
