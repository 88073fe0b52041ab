import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Segmented, Skeleton } from 'antd';
import { Link, useSearchParams } from 'react-router';
import type { Notice } from '../../api/client';
import { retryDeliveries } from '../../api/client';
import { queries } from '../../api/queries';
import { ErrorAlert } from '../../components/error-alert';
import { Time } from '../../components/time';
import { count } from '../../format';
import { Receivers } from './receivers';
import { SHOWN, deliveryWords, isShown, outcomeWords } from './words';
import type { Shown } from './words';

const TITLES: Record<Shown, string> = { all: 'All', waiting: 'Waiting', failed: 'Failed' };

/** Which alarms were sent to which receivers, and did they arrive? */
export function NoticesPage() {
  const [search, setSearch] = useSearchParams();
  const wanted = search.get('state');
  const shown: Shown = isShown(wanted) ? wanted : 'all';
  const client = useQueryClient();
  const session = useQuery(queries.session());
  const mayAct = session.data?.role !== 'viewer';
  const answer = useQuery(queries.notices(shown));
  const status = useQuery(queries.status());
  const retry = useMutation({
    mutationFn: (notice?: number) => retryDeliveries(notice),
    onSettled: async () => {
      await client.invalidateQueries({ queryKey: ['notices'] });
      await client.invalidateQueries({ queryKey: ['status'] });
    },
  });
  const late = status.data?.late_deliveries;
  return (
    <>
      <div className="actions">
        <h1 className="sentence" style={{ flex: 1, margin: 0 }}>
          {late === undefined
            ? 'Notices'
            : late === 0
              ? 'Notices: all delivered'
              : `Notices: ${count(late, 'delivery', 'deliveries')} late or failed`}
        </h1>
        {mayAct && late !== undefined && late > 0 && (
          <Button loading={retry.isPending} onClick={() => retry.mutate(undefined)}>
            Send all failed again
          </Button>
        )}
      </div>
      {retry.error && <ErrorAlert error={retry.error} />}
      <Receivers isAdministrator={session.data?.role === 'administrator'} />
      <section aria-label="Sent">
        <div className="actions" style={{ marginTop: 16 }}>
          <h2 className="section" style={{ flex: 1 }}>
            Sent
          </h2>
          <Segmented<Shown>
            aria-label="Deliveries that are shown"
            value={shown}
            onChange={(next) => setSearch(next === 'all' ? {} : { state: next }, { replace: true })}
            options={SHOWN.map((value) => ({ value, label: TITLES[value] }))}
          />
        </div>
        {answer.error && <ErrorAlert error={answer.error} />}
        {!answer.data && !answer.error && <Skeleton active />}
        {answer.data?.length === 0 && (
          <p className="quiet">
            {shown === 'all'
              ? 'No notice yet. One is sent when alarms are raised or clear.'
              : `No delivery is ${shown}.`}
          </p>
        )}
        <ul className="plain-list">
          {answer.data?.map((notice) => (
            <NoticeRow
              key={notice.id}
              notice={notice}
              onRetry={mayAct ? () => retry.mutate(notice.no) : undefined}
            />
          ))}
        </ul>
      </section>
    </>
  );
}

function NoticeRow({ notice, onRetry }: { notice: Notice; onRetry?: () => void }) {
  const isFailed = notice.deliveries.some((delivery) => delivery.state === 'failed');
  return (
    <li className="entry" data-notice={notice.no}>
      <p className="said">
        <span className="quiet">
          <Time at={notice.at} />
        </span>{' '}
        {notice.incident != null && (
          <Link to={`/incidents/${notice.incident}`}>Incident {notice.incident}</Link>
        )}{' '}
        <strong>{notice.subject ?? 'Waits for the whole fault to show'}</strong>
        {isFailed && onRetry && (
          <>
            {' '}
            <Button size="small" onClick={onRetry}>
              Send again
            </Button>
          </>
        )}
      </p>
      {notice.subject != null && notice.deliveries.length === 0 && (
        <p className="said quiet">No receiver takes it.</p>
      )}
      {notice.deliveries.map((delivery) => (
        <p key={delivery.receiver} className="said quiet" data-delivery={delivery.state}>
          {deliveryWords(delivery)}
          {delivery.ended_at != null && (
            <>
              {', '}
              <Time at={delivery.ended_at} />
            </>
          )}
          {delivery.next_at != null && delivery.attempts > 0 && (
            <>
              , next attempt <Time at={delivery.next_at} />
            </>
          )}
          {outcomeWords(delivery)}
        </p>
      ))}
    </li>
  );
}
