import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { stale } from './change-feed';
import type { Word } from './change-feed';

/** Changes are collected for this long, so that a burst causes one request. */
const GATHER_MS = 250;
/** Judgement of paths comes every second or so: figures need not change faster than one reads. */
const JUDGED_MS = 2000;
/** While there is no stream the page asks by itself. */
const POLL_MS = 5000;

/** Keeps everything shown fresh while signed in; gives whether the stream is there. */
export function useLive(signedIn: boolean): boolean {
  const client = useQueryClient();
  const [joined, setJoined] = useState(true);

  useEffect(() => {
    if (!signedIn) return;
    const worker = new SharedWorker(new URL('./worker.ts', import.meta.url), {
      type: 'module',
      name: 'itinera-live',
    });
    const waiting = new Map<string, string[]>();
    let timer: ReturnType<typeof setTimeout> | undefined;
    let dueAt = Infinity;
    const flush = () => {
      timer = undefined;
      dueAt = Infinity;
      for (const queryKey of waiting.values()) void client.invalidateQueries({ queryKey });
      waiting.clear();
    };
    const gather = (keys: string[][], within: number) => {
      for (const key of keys) waiting.set(key.join('/'), key);
      const at = Date.now() + within;
      if (keys.length === 0 || at >= dueAt) return;
      clearTimeout(timer);
      dueAt = at;
      timer = setTimeout(flush, within);
    };
    worker.port.addEventListener('message', ({ data }: MessageEvent<Word>) => {
      if (data.kind === 'change') {
        gather(stale(data.topic, data.body), data.topic === 'judged' ? JUDGED_MS : GATHER_MS);
        return;
      }
      setJoined(data.kind === 'joined');
      // Changes while there was no stream are unknown.
      if (data.kind === 'joined') gather([[]], GATHER_MS);
    });
    worker.port.start();
    worker.port.postMessage('start');
    const leave = () => worker.port.postMessage('leave');
    window.addEventListener('pagehide', leave);
    return () => {
      clearTimeout(timer);
      window.removeEventListener('pagehide', leave);
      leave();
      worker.port.close();
    };
  }, [client, signedIn]);

  useEffect(() => {
    if (!signedIn || joined) return;
    const polling = setInterval(() => void client.invalidateQueries(), POLL_MS);
    return () => clearInterval(polling);
  }, [client, signedIn, joined]);

  return joined;
}
