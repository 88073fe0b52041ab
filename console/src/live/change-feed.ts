import type { components } from '../api/schema';

/** What the service's change feed tells of. */
type Topic = components['schemas']['LiveTopic'];
type Body = Record<string, unknown>;
type Keys = string[][];

/** What the shared worker says to each tab. */
export type Word =
  { kind: 'joined' } | { kind: 'lost' } | { kind: 'change'; topic: string; body: Body };

function judged(body: Body): Keys {
  const paths = Array.isArray(body.paths) ? body.paths.map(String) : [];
  const each = body.more === true ? [['path'], ['weave']] : [];
  const named = paths.flatMap((id) => [
    ['path', id],
    ['weave', id],
  ]);
  return [['status'], ['paths'], ...each, ...named];
}

/** Beginnings of the keys of what must be read again, by topic: each topic has an entry. */
const STALE: Record<Topic | 'here' | 'missed', (body: Body) => Keys> = {
  here: () => [],
  missed: () => [[]],
  judged,
  alarm: () => [['status'], ['alarms'], ['incidents'], ['incident'], ['hand-over']],
  event: () => [['status'], ['alarms'], ['incidents'], ['incident'], ['events'], ['checks']],
  incident: () => [['status'], ['incidents'], ['incident'], ['hand-over']],
  diagnosis: ({ id }) => [['diagnosis', String(id)], ['incident']],
  unknown: () => [[]],
  notice: () => [['notices'], ['incident'], ['status']],
  throughput: () => [['pairs'], ['events']],
};

/** Every topic that is listened for. */
export const TOPICS = Object.keys(STALE);

/** Keys to read again after a change; none for a topic that this console does not know. */
export function stale(topic: string, body: Body): Keys {
  return topic in STALE ? STALE[topic as keyof typeof STALE](body) : [];
}
