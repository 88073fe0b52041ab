import { useQuery } from '@tanstack/react-query';
import { Button, Skeleton } from 'antd';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import type { Look } from '../../api/client';
import { queries } from '../../api/queries';
import { FoundMark, foundWord } from '../../found';
import { Time } from '../../time';
import { Trouble } from '../../trouble';

/** Is it the network at all? From an agent's own machine to a service, step by step. */
export function OutwardPage() {
  const { id = '' } = useParams();
  const { data: look, error } = useQuery(queries.look(id));
  if (error && !look) return <Trouble error={error} />;
  if (!look) return <Skeleton active paragraph={{ rows: 8 }} />;
  return (
    <>
      {error && <Trouble error={error} />}
      <p className="said quiet">
        Look {look.no} from {look.site} to {look.target}, asked for by {look.person}{' '}
        <Time at={look.asked_at} />
        {look.incident != null && (
          <>
            {'; '}
            <Link to={`/incidents/${look.incident}`}>its incident</Link>
          </>
        )}
      </p>
      <h1 className="sentence two-lines" aria-live="polite">
        {look.sentence ?? look.progress}
      </h1>
      <Ladder look={look} />
      {look.text != null && <AsText text={look.text} />}
    </>
  );
}

/** The steps, nearest first. */
export function Ladder({ look }: { look: Look }) {
  if (look.steps.length === 0) return null;
  return (
    <ol className="ladder">
      {look.steps.map((step) => {
        const found = foundWord(step.found);
        return (
          <li key={step.step} className={found === 'broken' ? 'is-broken' : undefined}>
            <FoundMark found={found} />
            <span className="ladder-name">{step.step}</span>
            <span>{step.words}</span>
          </li>
        );
      })}
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
