import type { ThemeConfig } from 'antd';

/** Ink and ground of everything we draw ourselves; the theme's tokens use the same. */
export const ink = {
  text: '#1c2a33',
  quiet: '#55656f',
  faint: '#c9d2d8',
  ground: '#ffffff',
  band: '#f1f5f7',
  line: '#24566b',
} as const;

export const theme: ThemeConfig = {
  token: {
    colorPrimary: ink.line,
    colorLink: ink.line,
    colorText: ink.text,
    colorTextSecondary: ink.quiet,
    colorTextTertiary: ink.quiet,
    colorTextDescription: ink.quiet,
    fontFamily: "'Source Sans 3 Variable', 'DejaVu Sans', sans-serif",
    fontSize: 15,
    borderRadius: 4,
  },
};
