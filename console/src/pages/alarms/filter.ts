import type { AlarmQuery } from '../../api/client';
import { timesOf } from '../../time/range';
import type { Range } from '../../time/range';

/** Views of the queue, each with what the service is asked for. */
export const VIEWS = ['todo', 'mine', 'unassigned', 'shelved', 'closed', 'all'] as const;
export type View = (typeof VIEWS)[number];

export const VIEW_LABELS: Record<View, string> = {
  todo: 'To do',
  mine: 'Mine',
  unassigned: 'Unassigned',
  shelved: 'Shelved',
  closed: 'Closed',
  all: 'All in the range',
};

/** What an empty view says. */
export const EMPTY: Record<View, string> = {
  todo: 'No open alarms to work on.',
  mine: 'No open alarm is assigned to you.',
  unassigned: 'Every open alarm is assigned.',
  shelved: 'No open alarm is shelved.',
  closed: 'No alarm of this range is closed.',
  all: 'No alarms in this range.',
};

export const SEVERITIES = ['critical', 'major', 'minor'] as const;

/** The view that a URL names; the first where it names none. */
export function viewOf(search: URLSearchParams): View {
  return VIEWS.find((view) => view === search.get('show')) ?? 'todo';
}

/** The severity that a URL names. */
export function severityOf(search: URLSearchParams) {
  return SEVERITIES.find((severity) => severity === search.get('severity')) ?? null;
}

/** What the service is asked for by a view, by the user of this name. */
export function queryOf(
  view: View,
  severity: (typeof SEVERITIES)[number] | null,
  name: string,
  range: Range,
  now: number,
): AlarmQuery {
  const open = { open: true, operator_state: 'none,ack' };
  const byView: Record<View, () => AlarmQuery> = {
    todo: () => open,
    mine: () => ({ ...open, assignee: name }),
    unassigned: () => ({ ...open, unassigned: true }),
    shelved: () => ({ open: true, operator_state: 'shelved' }),
    closed: () => ({ operator_state: 'closed', ...timesOf(range, now) }),
    all: () => timesOf(range, now),
  };
  return severity === null ? byView[view]() : { ...byView[view](), severity };
}
