import type { Note } from '../api/client';

/** Notes on a path, pair, watch or machine, one paragraph each. */
export function Notes({ notes }: { notes: Note[] }) {
  return notes.map((note) => (
    <p className="said" data-code={note.code} key={note.text}>
      {note.text}
    </p>
  ));
}
