import type { Alarm, AlarmActionOutcomes, AlarmActionRequest } from '../../api/client';
import { count } from '../../format';

/** What can be done with the chosen alarms. */
export type Doing = 'acknowledge' | 'assign-me' | 'assign' | 'shelve' | 'attach' | 'close';

/** Each key does something and, where all of the alarms are so already, takes it back. */
export const KEYS: Record<string, Doing> = {
  y: 'acknowledge',
  m: 'assign-me',
  g: 'assign',
  s: 'shelve',
  t: 'attach',
  c: 'close',
};

export interface Offer {
  doing: Doing;
  key: string;
  label: string;
  /** What is asked of the service at once; absent where something is to be filled in first. */
  action: AlarmActionRequest['action'] | null;
  /** The user to assign to, where that is known. */
  to?: string | null;
}

/** What each key does with these alarms, for the user of this name. */
export function offers(alarms: Alarm[], name: string): Offer[] {
  const all = (is: (alarm: Alarm) => boolean) => alarms.length > 0 && alarms.every(is);
  const acknowledged = all((alarm) => alarm.handling.acknowledged_by != null);
  const mine = all((alarm) => alarm.handling.assignee === name);
  const shelved = all((alarm) => alarm.handling.state === 'shelved');
  const closed = all((alarm) => alarm.handling.state === 'closed');
  return [
    acknowledged
      ? offer('acknowledge', 'y', 'Withdraw acknowledgement', 'unacknowledge')
      : offer('acknowledge', 'y', 'Acknowledge', 'acknowledge'),
    mine
      ? { ...offer('assign-me', 'm', 'Unassign', 'assign'), to: null }
      : { ...offer('assign-me', 'm', 'Assign to me', 'assign'), to: name },
    offer('assign', 'g', 'Assign…', null),
    shelved ? offer('shelve', 's', 'Unshelve', 'unshelve') : offer('shelve', 's', 'Shelve…', null),
    offer('attach', 't', 'Attach…', null),
    closed ? offer('close', 'c', 'Reopen', 'reopen') : offer('close', 'c', 'Close…', null),
  ];
}

function offer(doing: Doing, key: string, label: string, action: Offer['action']): Offer {
  return { doing, key, label, action };
}

/** The alarms that something is done with: the marked ones, or else the selected one. */
export function chosen(items: Alarm[], marked: Set<string>, selected: Alarm | undefined): Alarm[] {
  const some = items.filter((alarm) => marked.has(alarm.id));
  if (some.length > 0) return some;
  return selected === undefined ? [] : [selected];
}

/** What is shown after something was done with alarms: those that left the view are gone. */
export function remaining(shown: Alarm[], acted: Set<string>, answer: Alarm[]): Alarm[] {
  const still = new Set(answer.map((alarm) => alarm.id));
  return shown.filter((alarm) => !acted.has(alarm.id) || still.has(alarm.id));
}

const DONE: Record<AlarmActionRequest['action'], string> = {
  acknowledge: 'acknowledged',
  unacknowledge: 'not acknowledged any more',
  assign: 'assigned',
  shelve: 'shelved',
  unshelve: 'unshelved',
  close: 'closed',
  reopen: 'reopened',
  attach: 'attached',
};

/** What became of an action: "2 alarms acknowledged; 1 alarm refused: this alarm is closed". */
export function summary(
  { items }: AlarmActionOutcomes,
  action: AlarmActionRequest['action'] | undefined,
): string {
  const refused = items.filter((item) => item.outcome === 'refused');
  const done = items.filter((item) => item.outcome === 'done').length;
  const unchanged = items.length - refused.length - done;
  const parts: string[] = [];
  if (done > 0) parts.push(`${count(done, 'alarm')} ${action ? DONE[action] : 'changed'}`);
  if (unchanged > 0) parts.push(`${count(unchanged, 'alarm')} unchanged`);
  const reasons = [...new Set(refused.map((item) => item.detail))].join(', ');
  if (refused.length > 0) parts.push(`${count(refused.length, 'alarm')} refused: ${reasons}`);
  return parts.join('; ');
}
