/**
 * The order of a list that is being read: what is there stays where it is, what comes waits
 * until the reader asks for it, and what is gone from the answer stays with its last words.
 */
export interface Held<T> {
  items: T[];
  waiting: number;
}

export function hold<T extends { id: string }>(shown: T[], answer: T[]): Held<T> {
  if (shown.length === 0) return { items: answer, waiting: 0 };
  const fresh = new Map(answer.map((item) => [item.id, item]));
  const known = new Set(shown.map((item) => item.id));
  return {
    items: shown.map((item) => fresh.get(item.id) ?? item),
    waiting: answer.filter((item) => !known.has(item.id)).length,
  };
}

/** The id `by` places further in the list, staying within it; the first where none is selected. */
export function moved(ids: string[], selected: string | null, by: number): string | null {
  if (ids.length === 0) return null;
  const at = selected === null ? -1 : ids.indexOf(selected);
  if (at < 0) return ids[0] ?? null;
  return ids[Math.min(Math.max(at + by, 0), ids.length - 1)] ?? null;
}
