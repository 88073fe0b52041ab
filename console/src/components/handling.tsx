import type { Alarm, AlarmActionDone } from '../api/client';
import { dayTime } from '../format';
import { useTimeScope } from '../time/scope';
import { AlarmState } from './alarm-state';
import { Time } from './time';

/** The user who has an alarm: "acknowledged, assigned to bran", "shelved until 14:00"; or nothing. */
function Handling({ alarm }: { alarm: Alarm }) {
  const { zone } = useTimeScope();
  const { handling } = alarm;
  const words: string[] = [];
  if (handling.state === 'closed') words.push(`closed by ${handling.closed_by}`);
  if (handling.shelved_until != null) {
    words.push(`shelved until ${dayTime(handling.shelved_until, zone)}`);
  }
  const { assignee } = handling;
  if (handling.state === 'ack') {
    // The user who acknowledged it is among the actions.
    words.push(assignee == null ? `acknowledged by ${handling.acknowledged_by}` : 'acknowledged');
  }
  if (assignee != null) words.push(`assigned to ${assignee}`);
  return words.join(', ');
}

/** State of an alarm and the user who has it: "open; acknowledged by ailsa". */
export function AlarmStanding({ alarm }: { alarm: Alarm }) {
  const isHandled = alarm.handling.state !== 'none' || alarm.handling.assignee != null;
  return (
    <>
      <AlarmState alarm={alarm} />
      {isHandled && '; '}
      <Handling alarm={alarm} />
    </>
  );
}

/** An action on an alarm in words. */
export function ActionWords({ done }: { done: AlarmActionDone }) {
  const { zone } = useTimeScope();
  switch (done.action) {
    case 'acknowledged':
      return 'acknowledged';
    case 'unacknowledged':
      return 'acknowledgement withdrawn';
    case 'assigned':
      return done.to == null ? 'unassigned' : `assigned to ${done.to}`;
    case 'shelved':
      return done.until == null ? 'shelved' : `shelved until ${dayTime(done.until, zone)}`;
    case 'unshelved':
      return 'unshelved';
    case 'closed':
      return 'closed';
    case 'reopened':
      return 'reopened';
    case 'attached':
      return done.incident_no == null ? 'attached' : `attached to incident ${done.incident_no}`;
    case 'unknown':
      return 'changed by an action that this version cannot show';
  }
}

/** What operators did with an alarm, the oldest first; nothing where they did nothing. */
export function AlarmActions({ alarm }: { alarm: Alarm }) {
  if (alarm.actions.length === 0) return null;
  return (
    <>
      <h3 className="section">Actions</h3>
      <ol className="plain-list" aria-label="Actions">
        {alarm.actions.map((done, nth) => (
          <li key={`${done.at} ${nth}`}>
            <Time at={done.at} />: <ActionWords done={done} /> by {done.user}
            {done.text != null && <span className="words">: {done.text}</span>}
          </li>
        ))}
      </ol>
    </>
  );
}
