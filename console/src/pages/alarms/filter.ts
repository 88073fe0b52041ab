import type { AlarmQuery, SavedView } from '../../api/client';
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

/** What alarms are about. */
export const CLASS_LABELS = {
  path: 'Paths',
  event: 'Events',
  service: 'Itinera itself',
} as const;

/** The severity and the class of alarms that a URL names. */
export function narrowedBy(search: URLSearchParams): Pick<AlarmQuery, 'severity' | 'class'> {
  const severity = SEVERITIES.find((one) => one === search.get('severity'));
  const named = Object.keys(CLASS_LABELS).find((one) => one === search.get('class'));
  return { ...(severity && { severity }), ...(named && { class: named }) };
}

/** What the service is asked for by a view, by the user of this name. */
export function queryOf(
  view: View,
  narrowed: Pick<AlarmQuery, 'severity' | 'class'>,
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
  return { ...byView[view](), ...narrowed };
}

/** What of an address a view keeps: not which alarm is selected, nor the name of another view. */
export function savedQuery(search: URLSearchParams): string {
  const kept = new URLSearchParams(search);
  kept.delete('alarm');
  kept.delete('view');
  return kept.toString();
}

/** The address that a saved view leads to. */
export function leadsTo({ name, query }: SavedView): URLSearchParams {
  const address = new URLSearchParams(query);
  address.set('view', name);
  return address;
}
