import { useMutation, useQuery } from '@tanstack/react-query';
import { Button, Skeleton, Table } from 'antd';
import type { TableColumnsType } from 'antd';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { askNow } from '../../api/client';
import type { CheckDetail } from '../../api/client';
import { queries } from '../../api/queries';
import { FoundMark } from '../../components/found';
import type { FoundWord } from '../../components/found';
import { MessageDetail } from '../../components/message';
import { bytes, count, failure, ms, rate, stepName } from '../../format';
import { ink } from '../../theme';
import { Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';
import { useTimeScope } from '../../time/scope';
import { barsOf, stepsOf } from './waterfall';

const WIDTH = 1160;
const NAME = 200;
const BAR = 640;
const ROW = 26;
/** Results that the service gives at most. */
const MOST = 200;

/** The newest result's mark; a good result with an open event is noted. */
function markOf(check: CheckDetail): FoundWord {
  if (check.state === 'broken') return 'broken';
  if (check.event) return 'noted';
  return check.state === 'good' ? 'clean' : 'unknown';
}

/** Is it the network? What a service answered, step by step, and the path to the very address. */
export function CheckPage() {
  const { id = '' } = useParams();
  const { range } = useTimeScope();
  const { data: check, error } = useQuery(queries.check(id, range));
  if (error && !check) return <ErrorAlert error={error} />;
  if (!check) return <Skeleton active paragraph={{ rows: 8 }} />;
  return (
    <>
      {error && <ErrorAlert error={error} />}
      <p className="said quiet">
        Check {check.no}: {check.site} to {check.target}, {check.kind}
        {check.host != null && ` ${check.host}`}, every {check.every_s} s
        {check.at != null && (
          <>
            ; result of <Time at={check.at} />
          </>
        )}
      </p>
      <h1 className="sentence">
        <FoundMark found={markOf(check)} />{' '}
        {(check.event ?? check.message)?.headline ?? 'It has no result in this range.'}
      </h1>
      {check.event && <MessageDetail message={check.event} />}
      {!check.event && check.message && <MessageDetail message={check.message} />}
      <p className="said">
        {check.spoke_to != null && <>Server: {check.spoke_to}. </>}
        {check.path != null ? (
          <Link to={`/paths/${check.path}`}>Path to this address</Link>
        ) : (
          check.spoke_to != null && (
            <span className="quiet">The path to that address is not measured.</span>
          )
        )}
      </p>
      <AskNow id={check.id} at={check.at ?? null} />
      {check.phases.length > 0 && <Steps check={check} />}
      {check.web && check.web.resources.length > 0 && <Waterfall check={check} />}
      {check.resolved.length > 0 && <Resolved check={check} />}
      <Facts check={check} />
      <Results check={check} />
    </>
  );
}

/** Has it asked at once; the result appears when the agent reports it. */
function AskNow({ id, at }: { id: string; at: string | null }) {
  const [before, setBefore] = useState<string | null>();
  const asking = useMutation({
    mutationFn: () => askNow(id),
    onSuccess: () => setBefore(at),
  });
  return (
    <p className="said">
      <Button onClick={() => asking.mutate()} loading={asking.isPending}>
        Run check now
      </Button>{' '}
      {before === at && before !== undefined && (
        <span className="quiet" role="status">
          Asked for; what comes of it appears here in a moment.
        </span>
      )}
      {asking.error && <ErrorAlert error={asking.error} />}
    </p>
  );
}

function Steps({ check }: { check: CheckDetail }) {
  const steps = stepsOf(check);
  const failed = check.failed_at == null ? null : stepName(check.failed_at);
  const height = steps.length * ROW + (failed == null ? 0 : ROW) + 6;
  return (
    <section aria-labelledby="steps">
      <h2 className="section" id="steps">
        Steps, {ms(check.took_us)} in total
      </h2>
      <svg className="staircase" viewBox={`0 0 ${WIDTH} ${height}`} role="img" aria-label="Steps">
        {steps.map((step, index) => (
          <g key={step.name}>
            <text
              x={NAME - 10}
              y={index * ROW + 18}
              textAnchor="end"
              fontSize="14"
              fill={ink.quiet}
            >
              {step.name}
            </text>
            <rect
              x={NAME + step.from * BAR}
              y={index * ROW + 5}
              width={Math.max(2, (step.to - step.from) * BAR)}
              height={ROW - 10}
              fill={ink.line}
            />
            <text x={NAME + step.to * BAR + 8} y={index * ROW + 18} fontSize="14" fill={ink.text}>
              {ms(step.tookUs)}
            </text>
          </g>
        ))}
        {failed != null && (
          <text
            x={NAME - 10}
            y={steps.length * ROW + 18}
            textAnchor="end"
            fontSize="14"
            fill={ink.text}
          >
            ✕ {failed}
          </text>
        )}
        {failed != null && (
          <text x={NAME + 8} y={steps.length * ROW + 18} fontSize="14" fill={ink.text}>
            {check.cause?.text}
          </text>
        )}
      </svg>
    </section>
  );
}

function Waterfall({ check }: { check: CheckDetail }) {
  const resources = check.web?.resources ?? [];
  const { bars, wholeUs } = barsOf(resources);
  const failed = bars.filter((bar) => bar.failed !== null).length;
  return (
    <section aria-labelledby="waterfall">
      <h2 className="section" id="waterfall">
        {count(bars.length, 'resource')} in {ms(wholeUs)}
        {failed > 0 && `, ${failed} failed`}
      </h2>
      <svg
        className="staircase"
        viewBox={`0 0 ${WIDTH} ${bars.length * ROW + 6}`}
        role="img"
        aria-label="Resources along the time of the page: hollow until the first byte, then filled"
      >
        {bars.map((bar, index) => (
          <g key={`${bar.name} ${index}`}>
            <text
              x={NAME - 10}
              y={index * ROW + 18}
              textAnchor="end"
              fontSize="14"
              fill={ink.quiet}
            >
              {bar.name.length > 28 ? `…${bar.name.slice(-27)}` : bar.name}
            </text>
            <rect
              x={NAME + bar.begun * BAR}
              y={index * ROW + 7}
              width={Math.max(1, (bar.first - bar.begun) * BAR)}
              height={ROW - 14}
              fill="none"
              stroke={ink.line}
              strokeDasharray={bar.failed === null ? undefined : '3 3'}
            />
            {bar.failed === null && (
              <rect
                x={NAME + bar.first * BAR}
                y={index * ROW + 7}
                width={Math.max(2, (bar.done - bar.first) * BAR)}
                height={ROW - 14}
                fill={ink.line}
              />
            )}
            <text x={NAME + bar.done * BAR + 8} y={index * ROW + 18} fontSize="14" fill={ink.text}>
              {bar.failed ?? `${ms(bar.tookUs)}, ${bytes(bar.sizeBytes)}`}
              {bar.slowest ? ', slowest' : ''}
            </text>
          </g>
        ))}
      </svg>
      <p className="said quiet">Hollow: until the first byte. Filled: transfer. Dashed: failed.</p>
    </section>
  );
}

type ResolvedRow = CheckDetail['resolved'][number];

const resolvedColumns: TableColumnsType<ResolvedRow> = [
  { title: 'Resolver', dataIndex: 'resolver' },
  { title: 'Answer', render: (_, one) => one.cause?.text ?? one.addresses.join(', ') },
  { title: 'Authoritative', render: (_, one) => (one.authoritative ? 'yes' : 'no') },
  {
    title: 'TTL',
    align: 'right',
    render: (_, one) => (one.ttl_s == null ? '–' : `${one.ttl_s} s`),
  },
  { title: 'Time', align: 'right', render: (_, one) => ms(one.took_us) },
];

function Resolved({ check }: { check: CheckDetail }) {
  return (
    <section aria-labelledby="resolved">
      <h2 className="section" id="resolved">
        Answers of resolvers
      </h2>
      <Table<ResolvedRow>
        size="small"
        className="numbers"
        rowKey="resolver"
        columns={resolvedColumns}
        dataSource={check.resolved}
        pagination={false}
      />
    </section>
  );
}

function Facts({ check }: { check: CheckDetail }) {
  const { web, certificates } = check;
  return (
    <>
      {web && (
        <p className="said">
          HTTP/{web.version}, status {web.status ?? '–'}, {bytes(web.size_bytes)}
          {web.cut && ' (cut there)'}
          {web.rate_bytes_per_s != null && `, ${rate(web.rate_bytes_per_s)}`}
          {web.redirects.length > 0 && `; redirected to ${web.redirects.join(', ')}`}
        </p>
      )}
      {check.tls_version != null && (
        <ul className="plain-list">
          {certificates.map((certificate) => (
            <li className="said" key={`${certificate.subject} ${certificate.not_after}`}>
              {check.tls_version}: {certificate.subject}, signed by {certificate.issuer}, until{' '}
              <Time at={certificate.not_after} />
            </li>
          ))}
        </ul>
      )}
      {check.said != null && (
        <section aria-labelledby="server-said">
          <h2 className="section" id="server-said">
            Text from the server
          </h2>
          <pre className="words">{check.said}</pre>
        </section>
      )}
    </>
  );
}

type ResultRow = CheckDetail['results'][number];

const resultColumns: TableColumnsType<ResultRow> = [
  { title: 'At', render: (_, one) => <Time at={one.at} /> },
  { title: 'Result', render: (_, one) => failure(one) ?? 'good' },
  { title: 'Duration', align: 'right', render: (_, one) => ms(one.took_us) },
  { title: 'Transfer', align: 'right', render: (_, one) => rate(one.rate_bytes_per_s) },
];

function Results({ check }: { check: CheckDetail }) {
  const bad = check.results.filter((one) => !one.good).length;
  return (
    <section aria-labelledby="results">
      <h2 className="section" id="results">
        {bad} of {check.results.length >= MOST && 'the newest '}
        {count(check.results.length, 'result')} in this range failed
      </h2>
      <Table<ResultRow>
        size="small"
        className="numbers"
        rowKey="at"
        columns={resultColumns}
        dataSource={check.results}
        pagination={check.results.length > 12 ? { pageSize: 12, showSizeChanger: false } : false}
      />
    </section>
  );
}
