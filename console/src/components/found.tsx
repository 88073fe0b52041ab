import type { ReactNode } from 'react';

export type FoundWord = 'clean' | 'noted' | 'broken' | 'unknown';

/** Shapes that differ without colour, each with its word. */
const MARKS: Record<FoundWord, [string, string]> = {
  clean: ['✓', 'as it should'],
  noted: ['◇', 'to note'],
  broken: ['✕', 'broken'],
  unknown: ['·', 'not known'],
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

export function foundWord(text: string): FoundWord {
  return text in MARKS ? (text as FoundWord) : 'unknown';
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
