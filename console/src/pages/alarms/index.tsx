import { useQuery } from '@tanstack/react-query';
import { Button, Segmented, Select, Skeleton } from 'antd';
import { useEffect, useRef, useState } from 'react';
import type { KeyboardEvent as ReactKeyboardEvent } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import type { Alarm } from '../../api/client';
import { queries } from '../../api/queries';
import { count, listed } from '../../format';
import { AlarmStanding } from '../../components/handling';
import { useTimeScope } from '../../time/scope';
import { isWriting } from '../../components/keys';
import { SeverityMark } from '../../components/severity';
import { Span } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';
import { ActionDialog } from './action-dialog';
import { CLASS_LABELS, EMPTY, SEVERITIES, VIEWS, VIEW_LABELS } from './filter';
import { narrowedBy, queryOf, viewOf } from './filter';
import type { View } from './filter';
import { Preview } from './preview';
import { hold, moved } from './queue';
import { SavedViews } from './saved-views';
import { KEYS, chosen, offers, remaining } from './triage';
import { useTriage } from './use-triage';

const STEPS: Record<string, number> = { j: 1, ArrowDown: 1, k: -1, ArrowUp: -1 };

/** A query with some values changed; those of the first view are left out. */
function shownBy(search: URLSearchParams, next: Record<string, string>): Record<string, string> {
  const all = { ...Object.fromEntries(search), ...next };
  const plain = { show: 'todo', severity: '', class: '' };
  for (const [name, value] of Object.entries(plain)) if (all[name] === value) delete all[name];
  // Another filter is no saved view any more.
  if (Object.keys(next).some((name) => name in plain)) delete all.view;
  return all;
}

/** What do I do next? The queue of alarms, with what the selected one shows beside it. */
export function AlarmsPage() {
  const [search, setSearch] = useSearchParams();
  const { rangeText } = useTimeScope();
  const [view, narrowed] = [viewOf(search), narrowedBy(search)];
  const ranged = view === 'all' || view === 'closed';
  // A digit leads to a view from everywhere on the page: an empty view has no list to press keys in.
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (isWriting(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      const next = VIEWS[Number(event.key) - 1];
      if (next === undefined || document.querySelector('[role=dialog]')) return;
      setSearch((known) => shownBy(known, { show: next }), { replace: true });
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, [setSearch]);
  // Another filter is another list.
  const key = `${view} ${narrowed.severity ?? ''} ${narrowed.class ?? ''} ${ranged ? rangeText : ''}`;
  return <Queue key={key} name={key} view={view} />;
}

function Queue({ name, view }: { name: string; view: View }) {
  const [search, setSearch] = useSearchParams();
  const { range } = useTimeScope();
  const session = useQuery(queries.session());
  const user = session.data?.name ?? '';
  const navigate = useNavigate();
  const narrowed = narrowedBy(search);
  const query = queries.alarms(name, (now) => queryOf(view, narrowed, user, range, now));
  const answer = useQuery(query);
  const [shown, setShown] = useState<Alarm[]>([]);
  const [marked, setMarked] = useState<Set<string>>(new Set());
  const list = useRef<HTMLDivElement>(null);
  const views = useRef<HTMLDivElement>(null);
  const { items, waiting } = hold(shown, answer.data ?? []);
  const ids = items.map((alarm) => String(alarm.no));
  const selected = items.find((alarm) => String(alarm.no) === search.get('alarm')) ?? items[0];

  // What was shown once is what is held; not what a view held when it was left.
  const isFresh = !answer.isPlaceholderData && !answer.isFetching;
  if (shown.length === 0 && items.length > 0 && isFresh) setShown(items);

  const change = (next: Record<string, string>) =>
    setSearch(shownBy(search, next), { replace: true });

  const triage = useTriage(query.queryKey, (acted, now) => {
    const left = remaining(items, acted, now);
    const at = items.findIndex((alarm) => alarm.id === selected?.id);
    if (selected && !left.includes(selected)) {
      const next = left[Math.min(at, left.length - 1)];
      if (next) change({ alarm: String(next.no) });
    }
    setShown(left);
    setMarked(new Set());
  });
  const mayAct = session.data?.role !== 'viewer';
  const of = chosen(items, marked, selected);
  const offered = mayAct ? offers(of, user) : [];

  // The keys work at once where nothing else has the focus.
  const isThere = selected !== undefined;
  useEffect(() => {
    if (isThere && document.activeElement === document.body) list.current?.focus();
  }, [isThere]);

  // A dialog that is over gives the focus back to the list.
  const isAsking = triage.asking !== null;
  const wasAsking = useRef(false);
  useEffect(() => {
    if (wasAsking.current && !isAsking) list.current?.focus();
    wasAsking.current = isAsking;
  }, [isAsking]);

  const mark = (all: boolean) => {
    const every = all ? items : items.filter((alarm) => alarm.id === selected?.id);
    const next = new Set(marked);
    const undo = every.every((alarm) => marked.has(alarm.id));
    for (const { id } of every) {
      if (undo) next.delete(id);
      else next.add(id);
    }
    setMarked(next);
  };

  const press = (event: ReactKeyboardEvent) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const by = STEPS[event.key];
    const doing = KEYS[event.key];
    if (by !== undefined) {
      const next = moved(ids, selected ? String(selected.no) : null, by);
      if (next !== null) change({ alarm: next });
    } else if (event.key === 'Enter' && selected?.incident_no != null) {
      // Not also a click on the entry that has the focus.
      void navigate(`/incidents/${selected.incident_no}`);
    } else if (event.key === 'x' || event.key === 'X') {
      mark(event.key === 'X');
    } else if (event.key === '/') {
      views.current?.querySelector<HTMLInputElement>('input:checked')?.focus();
    } else if (doing !== undefined) {
      const offer = offered.find((one) => one.doing === doing);
      if (offer) triage.offered(offer, of);
    } else {
      return;
    }
    event.preventDefault();
  };

  return (
    <>
      <div className="actions">
        <h1 className="sentence" style={{ flex: 1, margin: 0 }}>
          Alarms
        </h1>
        <Button
          disabled={waiting === 0}
          onClick={() => setShown(answer.data ?? [])}
          aria-live="polite"
        >
          {waiting === 0 ? 'Nothing new' : `Show ${count(waiting, 'new alarm')}`}
        </Button>
        <SavedViews />
        <Select
          aria-label="Severity"
          style={{ width: 122 }}
          value={narrowed.severity ?? ''}
          options={[
            { value: '', label: 'Any severity' },
            ...SEVERITIES.map((value) => ({ value, label: value })),
          ]}
          onChange={(next: string) => change({ severity: next })}
        />
        <Select
          aria-label="About"
          style={{ width: 122 }}
          value={narrowed.class ?? ''}
          options={[
            { value: '', label: 'All classes' },
            ...Object.entries(CLASS_LABELS).map(([value, label]) => ({ value, label })),
          ]}
          onChange={(next: string) => change({ class: next })}
        />
        <div ref={views}>
          <Segmented
            aria-label="Which alarms"
            onKeyDown={(event) => {
              if (event.key === 'Enter' || event.key === 'Escape') list.current?.focus();
            }}
            value={view}
            options={VIEWS.map((value) => ({ value, label: VIEW_LABELS[value] }))}
            onChange={(next) => change({ show: next })}
          />
        </div>
      </div>
      {answer.error && <ErrorAlert error={answer.error} />}
      {!answer.data && !answer.error && <Skeleton active />}
      {answer.data && items.length === 0 && <p className="quiet">{EMPTY[view]}</p>}
      {selected && mayAct && (
        <div className="actions" role="toolbar" aria-label="Actions">
          {offered.map((offer) => (
            <Button key={offer.doing} onClick={() => triage.offered(offer, of)}>
              {offer.label} <kbd>{offer.key}</kbd>
            </Button>
          ))}
          <span className="quiet">
            {marked.size > 0
              ? `with ${count(of.length, 'marked alarm')}`
              : `with alarm ${selected.no}`}
          </span>
        </div>
      )}
      {/* There from the start: what is said later is announced. */}
      <p role="status" className="said">
        {triage.said}
      </p>
      {triage.error && <ErrorAlert error={triage.error} />}
      {selected && (
        <div className="two-columns">
          <div
            ref={list}
            role="listbox"
            aria-label="Alarms"
            aria-multiselectable
            tabIndex={0}
            aria-activedescendant={`alarm-${selected.no}`}
            onKeyDown={press}
          >
            {items.map((alarm) => (
              <AlarmRow
                key={alarm.id}
                alarm={alarm}
                current={alarm.id === selected.id}
                marked={marked.has(alarm.id)}
                onPick={() => change({ alarm: String(alarm.no) })}
              />
            ))}
          </div>
          <Preview alarm={selected} />
        </div>
      )}
      {triage.asking && (
        <ActionDialog
          doing={triage.asking.doing}
          alarms={triage.asking.alarms}
          onDone={triage.answered}
          onCancel={triage.cancelled}
        />
      )}
    </>
  );
}

/** An alarm in two lines: severity, headline and time; then state, who has it, place and impact. */
function AlarmRow({
  alarm,
  current,
  marked,
  onPick,
}: {
  alarm: Alarm;
  current: boolean;
  marked: boolean;
  onPick: () => void;
}) {
  return (
    <button
      type="button"
      id={`alarm-${alarm.no}`}
      className="pick row"
      role="option"
      tabIndex={-1}
      data-current={current}
      aria-selected={marked}
      onClick={onPick}
    >
      <SeverityMark severity={alarm.perceived_severity} />
      <span className="row-head">
        {marked && '✓ '}
        {alarm.message.headline}
      </span>
      <span className="quiet row-when">
        <Span since={alarm.since} until={alarm.cleared_at ?? null} />
      </span>
      <span className="quiet row-rest">
        <AlarmStanding alarm={alarm} />
        {alarm.incident_no != null && `; incident ${alarm.incident_no}`}
        {alarm.paths.length > 0 && `; ${count(alarm.paths.length, 'path')}`}
        {alarm.sites.length > 0 && `; at ${listed(alarm.sites)}`}
      </span>
    </button>
  );
}
