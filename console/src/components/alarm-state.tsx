import type { Alarm } from '../api/client';
import { dayTime, listed } from '../format';
import { usePreferences } from '../preferences';

/** State of an alarm in words: "open", "no data since 12:03 (Eskerry: agent reports nothing)". */
export function AlarmState({ alarm }: { alarm: Alarm }) {
  const { zone } = usePreferences();
  switch (alarm.state) {
    case 'open':
      return 'open';
    case 'cleared':
      return 'cleared';
    case 'expired':
      return 'expired without data';
    case 'recorded-late':
      return 'recorded from late measurements';
    case 'no-data': {
      const since =
        alarm.no_data_since == null ? '' : ` since ${dayTime(alarm.no_data_since, zone)}`;
      const silent = alarm.silent_sites;
      const agents = silent.length === 1 ? 'agent reports' : 'agents report';
      const reason = silent.length === 0 ? '' : ` (${listed(silent)}: ${agents} nothing)`;
      return `no data${since}${reason}`;
    }
  }
}
