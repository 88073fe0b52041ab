import { useQuery } from '@tanstack/react-query';
import { Alert, Button, Select, Skeleton } from 'antd';
import { useState } from 'react';
import { useParams, useSearchParams } from 'react-router';
import type { PathDetail } from '../../api/client';
import { queries } from '../../api/queries';
import { count } from '../../format';
import { MessageDetail } from '../../components/message';
import { Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';
import { WatchEntry, WatchForm } from '../../components/watches';
import { EventList } from '../../components/event-list';
import { FromMachineToService } from './distance';
import { HistoryPanel } from './history';
import { HopTable } from './hop-table';
import { Staircase } from './staircase';
import { WeavePanel } from './weave';
import { Notes } from '../../components/notes';

const AGO = [
  { value: 0, label: 'nothing' },
  { value: 300, label: '5 minutes before' },
  { value: 1200, label: '20 minutes before' },
  { value: 3600, label: 'an hour before' },
  { value: 86400, label: 'a day before' },
];

function before(moment: string, seconds: number): string {
  return new Date(new Date(moment).getTime() - seconds * 1000).toISOString();
}

/** Where on this path, and compared to what? The moment and what lies beside it are in the URL. */
export function PathPage() {
  const { id = '' } = useParams();
  const [search, setSearch] = useSearchParams();
  const at = search.get('at');
  const beside = search.get('beside');
  const now = useQuery(queries.path(id));
  const then = useQuery({ ...queries.pathThen(id, at ?? ''), enabled: at !== null });
  const other = useQuery({ ...queries.pathThen(id, beside ?? ''), enabled: beside !== null });
  const { data: path, error } = at === null ? now : then;

  const change = (next: Record<string, string | null>) => {
    const all = new URLSearchParams(search);
    for (const [key, value] of Object.entries(next)) {
      if (value === null) all.delete(key);
      else all.set(key, value);
    }
    setSearch(all, { replace: true });
  };

  if (error && !path) return <ErrorAlert error={error} />;
  if (!path) return <Skeleton active paragraph={{ rows: 10 }} />;
  const moment = at ?? path.latest?.until ?? null;
  return (
    <>
      {error && <ErrorAlert error={error} />}
      {other.error && <ErrorAlert error={other.error} />}
      <Said path={path} />
      {at !== null && (
        <Alert
          type="info"
          style={{ margin: '8px 0' }}
          title={
            <>
              Path at <Time at={at} />, recomputed from the stored rounds.
            </>
          }
          action={<Button onClick={() => change({ at: null })}>Back to now</Button>}
        />
      )}
      {path.hops.length > 0 && (
        <>
          <div style={{ display: 'flex', gap: 10, alignItems: 'center', marginTop: 10 }}>
            <label htmlFor="beside">Lay under it</label>
            <Select
              id="beside"
              style={{ width: 190 }}
              value={beside === null ? 0 : -1}
              options={beside === null ? AGO : [{ value: -1, label: 'an earlier moment' }, ...AGO]}
              onChange={(ago: number) =>
                change({
                  beside:
                    ago === 0 || moment === null ? null : ago < 0 ? beside : before(moment, ago),
                })
              }
            />
            {beside !== null && other.data && (
              <span className="quiet">
                {other.data.latest ? (
                  <>
                    dashed: the minute until <Time at={other.data.latest.until} />
                  </>
                ) : (
                  <>
                    nothing was measured around <Time at={beside} />
                  </>
                )}
              </span>
            )}
          </div>
          <Staircase
            site={path.site}
            target={path.target}
            hops={path.hops}
            beside={beside === null ? undefined : other.data?.hops}
          />
          <h2 className="section">When, and in which network</h2>
          <WeavePanel
            id={id}
            agent={path.agent}
            at={at}
            onPick={(picked) => change({ at: picked === at ? null : picked })}
          />
          <HistoryPanel id={id} />
          {at === null && <FromMachineToService path={path} />}
          <h2 className="section">Hop by hop</h2>
          <HopTable hops={path.hops} beside={beside === null ? undefined : other.data?.hops} />
        </>
      )}
      <Watches path={id} />
      <h2 className="section">Events at {path.site}</h2>
      <EventList agent={path.agent} />
    </>
  );
}

function Watches({ path }: { path: string }) {
  const { data: watches, error } = useQuery(queries.watches(path));
  const [starting, setStarting] = useState(false);
  return (
    <section aria-labelledby="its-watches">
      <div style={{ display: 'flex', gap: 16, alignItems: 'baseline' }}>
        <h2 className="section" id="its-watches" style={{ flex: 1 }}>
          Watches
        </h2>
        <Button onClick={() => setStarting(true)}>Start a watch</Button>
      </div>
      {error && <ErrorAlert error={error} />}
      {watches?.length === 0 && <p className="said quiet">It has not been watched yet.</p>}
      <ul className="plain-list">
        {watches?.map((watch) => (
          <WatchEntry key={watch.id} watch={watch} />
        ))}
      </ul>
      <WatchForm path={starting ? path : null} onClose={() => setStarting(false)} />
    </section>
  );
}

function Said({ path }: { path: PathDetail }) {
  const [first, ...rest] = path.messages;
  return (
    <>
      <p className="said quiet">
        {path.site} to {path.target} ({path.address}
        {path.resolved != null && `, now ${path.resolved}`}), {path.method}, {path.size_bytes} bytes
        {path.latest && (
          <>
            ; {count(path.latest.rounds, 'round')} in the {path.latest.span_s} s until{' '}
            <Time at={path.latest.until} />
          </>
        )}
      </p>
      {first && (
        <>
          <h1 className="sentence" data-code={first.code}>
            {first.headline}
          </h1>
          <MessageDetail message={first} />
        </>
      )}
      {rest
        .flatMap((message) => message.detail)
        .map((line) => (
          <p className="said" key={line}>
            {line}
          </p>
        ))}
      <Notes notes={path.notes} />
    </>
  );
}
