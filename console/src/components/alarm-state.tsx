import type { Alarm } from '../api/client';
import { dayTime, listed } from '../format';
import { useTimeScope } from '../time/scope';
import { Time } from './time';

const WORDS: Record<Alarm['state'], string> = {
  open: 'open',
  'no-data': 'no data',
  cleared: 'cleared',
  expired: 'expired without data',
  'recorded-late': 'recorded from late measurements',
};

/** State of an alarm in a few words: "open", "no data since 12:03", "open, raised 3 times". */
export function AlarmState({ alarm }: { alarm: Alarm }) {
  const { zone } = useTimeScope();
  const times = alarm.times_raised > 1 ? `, raised ${alarm.times_raised} times` : '';
  const words = WORDS[alarm.state];
  if (alarm.state !== 'no-data' || alarm.no_data_since == null) return `${words}${times}`;
  return `${words} since ${dayTime(alarm.no_data_since, zone)}${times}`;
}

/** The states that an alarm has had, with their times. */
export function AlarmHistory({ alarm }: { alarm: Alarm }) {
  return (
    <ol className="plain-list" aria-label="History">
      {alarm.history.map((change) => (
        <li key={`${change.at} ${change.state} ${change.perceived_severity}`}>
          <Time at={change.at} />: {WORDS[change.state]}
          {isOpen(change.state) &&
            change.perceived_severity != null &&
            `, ${change.perceived_severity}`}
        </li>
      ))}
    </ol>
  );
}

function isOpen(state: Alarm['state']): boolean {
  return state === 'open' || state === 'no-data';
}

/** Why an alarm has no data, has expired, or was never open; nothing for others. */
export function AlarmStateReason({ alarm }: { alarm: Alarm }) {
  if (alarm.state === 'recorded-late' && alarm.recorded_at != null) {
    return (
      <p className="said">
        Measurements that came in late showed it at <Time at={alarm.recorded_at} />; it was over by
        then.
      </p>
    );
  }
  if (alarm.no_data_since == null) return null;
  const silent = alarm.silent_sites;
  return (
    <p className="said">
      No path that shows it has reported since <Time at={alarm.no_data_since} />
      {silent.length > 0 &&
        `: no reports from the ${silent.length === 1 ? 'agent' : 'agents'} at ${listed(silent)}`}
      .
    </p>
  );
}
