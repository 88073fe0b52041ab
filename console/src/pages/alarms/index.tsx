import { useQuery } from '@tanstack/react-query';
import { Button, Segmented, Skeleton } from 'antd';
import { useEffect, useRef, useState } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import type { Alarm } from '../../api/client';
import { queries } from '../../api/queries';
import { count } from '../../format';
import { isWriting } from '../../keys';
import { Time } from '../../time';
import { ErrorAlert } from '../../error-alert';
import { Preview } from './preview';
import { hold, moved } from './queue';

const STEPS: Record<string, number> = { j: 1, ArrowDown: 1, k: -1, ArrowUp: -1 };

/** What do I do next? The queue of alarms, with what the selected one shows beside it. */
export function AlarmsPage() {
  const [search] = useSearchParams();
  const show = search.get('show') === 'all' ? 'all' : 'open';
  // Another filter is another list.
  return <Queue key={show} show={show} />;
}

function Queue({ show }: { show: 'open' | 'all' }) {
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const answer = useQuery(queries.alarms(show === 'open'));
  const [shown, setShown] = useState<Alarm[]>([]);
  const list = useRef<HTMLDivElement>(null);
  const { items, waiting } = hold(shown, answer.data ?? []);
  const ids = items.map((alarm) => alarm.id);
  const selected = items.find((alarm) => alarm.id === search.get('alarm')) ?? items[0];

  // What was shown once is what is held.
  if (shown.length === 0 && items.length > 0 && !answer.isPlaceholderData) setShown(items);

  const change = (next: Record<string, string>) => {
    const all = { ...Object.fromEntries(search), ...next };
    if (all.show === 'open') delete all.show;
    setSearch(all, { replace: true });
  };

  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (isWriting(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      const by = STEPS[event.key];
      if (by !== undefined) {
        event.preventDefault();
        const next = moved(ids, selected?.id ?? null, by);
        if (next !== null) change({ alarm: next });
      }
      const onList = event.target === document.body || list.current?.contains(event.target as Node);
      if (event.key === 'Enter' && onList && selected?.incident != null) {
        // Not also a click on the entry that has the focus.
        event.preventDefault();
        void navigate(`/incidents/${selected.incident}`);
      }
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  });

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
            { value: 'open', label: 'Open' },
            { value: 'all', label: 'All' },
          ]}
          onChange={(next) => change({ show: next })}
        />
      </div>
      {answer.error && <ErrorAlert error={answer.error} />}
      {!answer.data && !answer.error && <Skeleton active />}
      {answer.data && items.length === 0 && (
        <p className="quiet">
          {show === 'open' ? 'No alarm is open.' : 'There has been no alarm.'}
        </p>
      )}
      {selected && (
        <div className="two-columns">
          <div
            ref={list}
            role="listbox"
            aria-label="Alarms"
            tabIndex={0}
            aria-activedescendant={`alarm-${selected.id}`}
          >
            {items.map((alarm) => (
              <button
                type="button"
                key={alarm.id}
                id={`alarm-${alarm.id}`}
                className="pick"
                role="option"
                tabIndex={-1}
                aria-selected={alarm.id === selected.id}
                onClick={() => change({ alarm: alarm.id })}
              >
                <span>{alarm.sentence}</span>
                <span className="quiet">
                  {alarm.perceived_severity}, since <Time at={alarm.since} />,{' '}
                  {alarm.cleared_at == null ? (
                    'open'
                  ) : (
                    <>
                      cleared <Time at={alarm.cleared_at} />
                    </>
                  )}
                </span>
              </button>
            ))}
          </div>
          <Preview alarm={selected} />
        </div>
      )}
    </>
  );
}
