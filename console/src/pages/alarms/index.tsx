import { useQuery } from '@tanstack/react-query';
import { Button, Segmented, Skeleton } from 'antd';
import { useState } from 'react';
import type { KeyboardEvent as ReactKeyboardEvent } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import type { Alarm } from '../../api/client';
import { queries } from '../../api/queries';
import { count, listed } from '../../format';
import { AlarmState } from '../../components/alarm-state';
import type { Range } from '../../time/range';
import { useTimeScope } from '../../time/scope';
import { SeverityMark } from '../../components/severity';
import { Span } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';
import { Preview } from './preview';
import { hold, moved } from './queue';

const STEPS: Record<string, number> = { j: 1, ArrowDown: 1, k: -1, ArrowUp: -1 };

/** What do I do next? The queue of alarms, with what the selected one shows beside it. */
export function AlarmsPage() {
  const [search] = useSearchParams();
  const show = search.get('show') === 'all' ? 'all' : 'open';
  const { range, rangeText } = useTimeScope();
  // Another filter is another list.
  return show === 'open' ? (
    <Queue key="open" which="open" />
  ) : (
    <Queue key={rangeText} which={range} />
  );
}

function Queue({ which }: { which: Range | 'open' }) {
  const show = which === 'open' ? 'open' : 'all';
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const answer = useQuery(queries.alarms(which));
  const [shown, setShown] = useState<Alarm[]>([]);
  const { items, waiting } = hold(shown, answer.data ?? []);
  const ids = items.map((alarm) => String(alarm.no));
  const selected = items.find((alarm) => String(alarm.no) === search.get('alarm')) ?? items[0];

  // What was shown once is what is held.
  if (shown.length === 0 && items.length > 0 && !answer.isPlaceholderData) setShown(items);

  const change = (next: Record<string, string>) => {
    const all = { ...Object.fromEntries(search), ...next };
    if (all.show === 'open') delete all.show;
    setSearch(all, { replace: true });
  };

  const press = (event: ReactKeyboardEvent) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const by = STEPS[event.key];
    if (by !== undefined) {
      event.preventDefault();
      const next = moved(ids, selected ? String(selected.no) : null, by);
      if (next !== null) change({ alarm: next });
    }
    if (event.key === 'Enter' && selected?.incident_no != null) {
      // Not also a click on the entry that has the focus.
      event.preventDefault();
      void navigate(`/incidents/${selected.incident_no}`);
    }
  };

  return (
    <>
      <div style={{ display: 'flex', gap: 16, alignItems: 'center' }}>
        <h1 className="sentence" style={{ flex: 1 }}>
          Alarms
        </h1>
        <Button
          disabled={waiting === 0}
          onClick={() => setShown(answer.data ?? [])}
          aria-live="polite"
        >
          {waiting === 0 ? 'Nothing new' : `Show ${count(waiting, 'new alarm')}`}
        </Button>
        <Segmented
          aria-label="Which alarms"
          value={show}
          options={[
            { value: 'open', label: 'Open now' },
            { value: 'all', label: 'In the range' },
          ]}
          onChange={(next) => change({ show: next })}
        />
      </div>
      {answer.error && <ErrorAlert error={answer.error} />}
      {!answer.data && !answer.error && <Skeleton active />}
      {answer.data && items.length === 0 && (
        <p className="quiet">
          {show === 'open' ? 'No alarm is open.' : 'No alarms in this range.'}
        </p>
      )}
      {selected && (
        <div className="two-columns">
          <div
            role="listbox"
            aria-label="Alarms"
            tabIndex={0}
            aria-activedescendant={`alarm-${selected.no}`}
            onKeyDown={press}
          >
            {items.map((alarm) => (
              <AlarmRow
                key={alarm.id}
                alarm={alarm}
                selected={alarm.id === selected.id}
                onPick={() => change({ alarm: String(alarm.no) })}
              />
            ))}
          </div>
          <Preview alarm={selected} />
        </div>
      )}
    </>
  );
}

/** An alarm in two lines: severity, headline and time; then state, place and impact. */
function AlarmRow({
  alarm,
  selected,
  onPick,
}: {
  alarm: Alarm;
  selected: boolean;
  onPick: () => void;
}) {
  return (
    <button
      type="button"
      id={`alarm-${alarm.no}`}
      className="pick row"
      role="option"
      tabIndex={-1}
      aria-selected={selected}
      onClick={onPick}
    >
      <SeverityMark severity={alarm.perceived_severity} />
      <span className="row-head">{alarm.message.headline}</span>
      <span className="quiet row-when">
        <Span since={alarm.since} until={alarm.cleared_at ?? null} />
      </span>
      <span className="quiet row-rest">
        <AlarmState alarm={alarm} />
        {alarm.incident_no != null && `; incident ${alarm.incident_no}`}
        {alarm.paths.length > 0 && `; ${count(alarm.paths.length, 'path')}`}
        {alarm.sites.length > 0 && `; at ${listed(alarm.sites)}`}
      </span>
    </button>
  );
}
