import type { ReactNode } from 'react';
import type { StepResult } from '../api/client';

export type FoundWord = StepResult;

/** Shapes that differ without colour, each with its word. */
const MARKS: Record<FoundWord, [string, string]> = {
  clean: ['✓', 'ok'],
  noted: ['◇', 'note'],
  broken: ['✕', 'broken'],
  unknown: ['·', 'unknown'],
};

/** How something was found: a shape and, for those who cannot see it, its word. */
export function FoundMark({ found }: { found: FoundWord }) {
  const [shape, word] = MARKS[found];
  return (
    <span className={`found found-${found}`} role="img" aria-label={word} title={word}>
      {shape}
    </span>
  );
}

interface Place {
  name: string;
  found: FoundWord;
  words: ReactNode;
}

/** Places in order of distance, the machine at the left and the service at the right. */
export function Distance({ places, label }: { places: Place[]; label: string }) {
  return (
    <ol className="distance" aria-label={label}>
      {places.map(({ name, found, words }) => (
        <li key={name} className={found === 'broken' ? 'is-broken' : undefined}>
          <p className="distance-name">
            <FoundMark found={found} /> {name}
          </p>
          <div className="distance-words">{words}</div>
        </li>
      ))}
    </ol>
  );
}
