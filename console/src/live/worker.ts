/// <reference lib="webworker" />
/**
 * One stream of changes for all tabs: more than a few streams over HTTP/1.1 would block each other.
 * It runs while a user is signed in, and resumes after an interruption.
 */
import { TOPICS } from './change-feed';
import type { Word } from './change-feed';

/** How long to wait after the service refused the stream, which the browser does not do itself. */
const AGAIN_MS = 3000;

const scope = self as unknown as SharedWorkerGlobalScope;
const ports = new Set<MessagePort>();
let stream: EventSource | null = null;
let again: ReturnType<typeof setTimeout> | undefined;

function tell(word: Word): void {
  for (const port of ports) port.postMessage(word);
}

function stop(): void {
  clearTimeout(again);
  stream?.close();
  stream = null;
}

function start(): void {
  if (stream !== null) return;
  const opened = new EventSource('/api/v1/live');
  stream = opened;
  opened.addEventListener('open', () => tell({ kind: 'joined' }));
  opened.addEventListener('error', () => {
    tell({ kind: 'lost' });
    // While it tries again by itself it is connecting; refused, it is closed.
    if (opened.readyState === EventSource.CLOSED && stream === opened) {
      stop();
      again = setTimeout(start, AGAIN_MS);
    }
  });
  for (const topic of TOPICS) {
    opened.addEventListener(topic, (event: MessageEvent<string>) =>
      tell({ kind: 'change', topic, body: JSON.parse(event.data) as Record<string, unknown> }),
    );
  }
}

scope.addEventListener('connect', (event: MessageEvent) => {
  const port = event.ports[0];
  if (port === undefined) return;
  ports.add(port);
  port.addEventListener('message', ({ data }: MessageEvent<string>) => {
    if (data === 'start') {
      // A tab that comes later hears at once whether the stream is there.
      if (stream?.readyState === EventSource.OPEN) port.postMessage({ kind: 'joined' });
      start();
    }
    if (data === 'stop') stop();
    if (data === 'leave') {
      ports.delete(port);
      if (ports.size === 0) stop();
    }
  });
  port.start();
});
