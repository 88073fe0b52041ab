/** What the shared worker says to each tab. */
export type Word =
  | { kind: 'joined' }
  | { kind: 'lost' }
  | { kind: 'news'; topic: string; body: Record<string, unknown> };

/** Beginnings of the keys of what has to be looked at again because of some news. */
export function stale(topic: string, body: Record<string, unknown>): string[][] {
  switch (topic) {
    case 'missed':
      return [[]];
    case 'judged': {
      const paths = Array.isArray(body.paths) ? body.paths.map(String) : [];
      const each = body.more === true ? [['path'], ['weave']] : [];
      const named = paths.flatMap((id) => [
        ['path', id],
        ['weave', id],
      ]);
      return [['state'], ['paths'], ...each, ...named];
    }
    case 'alarm':
      return [['state'], ['alarms'], ['incidents'], ['incident']];
    case 'event':
      return [['state'], ['alarms'], ['incidents'], ['incident'], ['events'], ['checks']];
    case 'outward':
      return [['look', String(body.id)], ['incident']];
    case 'incident':
      return [['incidents'], ['incident', String(body.id)]];
    default:
      return [];
  }
}
