import type { PathItem } from '../../api/client';
import { interval, ms } from '../../format';

/** What one site shows for one service: its worst path, in words. */
export interface BoardCell {
  site: string;
  service: string;
  /** The path that the cell stands for. */
  path: PathItem;
  paths: number;
  departure: number | null;
  text: string;
  /** The same for users who do not see the cell, with what it is compared to. */
  title: string;
}

/** Loss to the far end from which a cell says it instead of the delay. */
const WORTH_SAYING = 0.01;

function isWorse(a: PathItem, b: PathItem): boolean {
  const weight = ({ latest }: PathItem) => [latest?.departure ?? -1, latest?.end_loss_ratio ?? -1];
  const [stepA = -1, lossA = -1] = weight(a);
  const [stepB = -1, lossB = -1] = weight(b);
  return stepA === stepB ? lossA > lossB : stepA > stepB;
}

function worded(path: PathItem): { text: string; title: string } {
  const { latest } = path;
  const pathWords = `${path.target}, ${path.family === 'ipv6' ? 'IPv6' : 'IPv4'}, ${path.method}`;
  if (!latest) return { text: 'not measured', title: `${pathWords}: not measured yet` };
  const lost = latest.end_loss_ratio ?? 0;
  const usual =
    latest.usual_end_delay_us == null
      ? 'usual delay not known yet'
      : `usually ${ms(latest.usual_end_delay_us)}`;
  const share = interval(
    latest.end_loss_ratio,
    latest.end_loss_low_ratio,
    latest.end_loss_high_ratio,
  );
  const title = `${pathWords}: ${latest.end_lost} of ${latest.end_sent} probes lost in ${latest.span_s} s, ${share}, ${ms(latest.end_delay_us)} (${usual})`;
  if (latest.end_sent > 0 && latest.end_lost === latest.end_sent) return { text: 'silent', title };
  if (lost >= WORTH_SAYING) return { text: `${latest.end_lost} of ${latest.end_sent} lost`, title };
  return { text: ms(latest.end_delay_us), title };
}

/** Sites in rows, services in columns, both by name; absent where nothing is measured. */
export function boardOf(paths: PathItem[]): {
  sites: string[];
  services: string[];
  cells: Map<string, BoardCell>;
} {
  const cells = new Map<string, BoardCell>();
  for (const path of paths) {
    const key = keyOf(path.site, path.service);
    const known = cells.get(key);
    const worst = known && !isWorse(path, known.path) ? known.path : path;
    cells.set(key, {
      site: path.site,
      service: path.service,
      path: worst,
      paths: (known?.paths ?? 0) + 1,
      departure: worst.latest?.departure ?? null,
      ...worded(worst),
    });
  }
  const names = (of: (path: PathItem) => string) => [...new Set(paths.map(of))].toSorted();
  return { sites: names((p) => p.site), services: names((p) => p.service), cells };
}

export function keyOf(site: string, service: string): string {
  return JSON.stringify([site, service]);
}
