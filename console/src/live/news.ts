import type { components } from '../api/schema';

/** What the service's change feed tells of. */
type Topic = components['schemas']['LiveTopic'];
type Body = Record<string, unknown>;
type Keys = string[][];

/** What the shared worker says to each tab. */
export type Word =
  { kind: 'joined' } | { kind: 'lost' } | { kind: 'news'; topic: string; body: Body };

function judged(body: Body): Keys {
  const paths = Array.isArray(body.paths) ? body.paths.map(String) : [];
  const each = body.more === true ? [['path'], ['weave']] : [];
  const named = paths.flatMap((id) => [
    ['path', id],
    ['weave', id],
  ]);
  return [['state'], ['paths'], ...each, ...named];
}

/** Beginnings of the keys of what has to be looked at again, by topic: each topic has an entry. */
const STALE: Record<Topic | 'here' | 'missed', (body: Body) => Keys> = {
  here: () => [],
  missed: () => [[]],
  judged,
  alarm: () => [['state'], ['alarms'], ['incidents'], ['incident']],
  event: () => [['state'], ['alarms'], ['incidents'], ['incident'], ['events'], ['checks']],
  incident: ({ id }) => [['state'], ['incidents'], ['incident', String(id)]],
  outward: ({ id }) => [['look', String(id)], ['incident']],
  throughput: () => [['pairs'], ['events']],
};

/** Every topic that is listened for. */
export const TOPICS = Object.keys(STALE);

/** What has to be looked at again because of some news; nothing for a topic of a newer service. */
export function stale(topic: string, body: Body): Keys {
  return topic in STALE ? STALE[topic as keyof typeof STALE](body) : [];
}
