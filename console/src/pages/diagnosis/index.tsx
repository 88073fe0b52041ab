import { useQuery } from '@tanstack/react-query';
import { Button, Skeleton } from 'antd';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import type { Diagnosis } from '../../api/client';
import { queries } from '../../api/queries';
import { FoundMark } from '../../components/found';
import { MessageDetail } from '../../components/message';
import { Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';

/** Is it the network at all? From an agent's own machine to a service, step by step. */
export function DiagnosisPage() {
  const { id = '' } = useParams();
  const { data: diagnosis, error } = useQuery(queries.diagnosis(id));
  if (error && !diagnosis) return <ErrorAlert error={error} />;
  if (!diagnosis) return <Skeleton active paragraph={{ rows: 8 }} />;
  return (
    <>
      {error && <ErrorAlert error={error} />}
      <p className="said quiet">
        Diagnosis {diagnosis.no} from {diagnosis.site} to {diagnosis.target}, started by{' '}
        {diagnosis.user} <Time at={diagnosis.asked_at} />
        {diagnosis.incident_no != null && (
          <>
            {'; '}
            <Link to={`/incidents/${diagnosis.incident_no}`}>incident {diagnosis.incident_no}</Link>
          </>
        )}
      </p>
      <h1 className="sentence" aria-live="polite">
        {diagnosis.conclusion?.headline ?? diagnosis.progress}
      </h1>
      {diagnosis.conclusion && <MessageDetail message={diagnosis.conclusion} />}
      <Ladder diagnosis={diagnosis} />
      {diagnosis.text != null && <AsText text={diagnosis.text} />}
    </>
  );
}

/** The steps, nearest first. */
export function Ladder({ diagnosis }: { diagnosis: Diagnosis }) {
  if (diagnosis.steps.length === 0) return null;
  return (
    <ol className="ladder">
      {diagnosis.steps.map((step) => (
        <li
          key={step.step}
          className={step.found === 'broken' ? 'is-broken' : undefined}
          data-code={step.code}
        >
          <FoundMark found={step.found} />
          <span className="ladder-name">{step.name}</span>
          <span>{step.words}</span>
        </li>
      ))}
    </ol>
  );
}

function AsText({ text }: { text: string }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setCopied(true);
  };
  return (
    <section aria-labelledby="as-text">
      <div style={{ display: 'flex', gap: 16, alignItems: 'baseline' }}>
        <h2 className="section" id="as-text" style={{ flex: 1 }}>
          As text, for a mail
        </h2>
        <Button onClick={() => void copy()}>{copied ? 'Copied' : 'Copy'}</Button>
      </div>
      <pre className="words paste">{text}</pre>
    </section>
  );
}
