import { useQuery } from '@tanstack/react-query';
import { Alert } from 'antd';
import type { Storage } from '../../api/client';
import { queries } from '../../api/queries';
import { bytes } from '../../format';
import { ErrorAlert } from '../../components/error-alert';

/** Ten years: longer says nothing. */
const LONG_DAYS = 3650;
/** Tables named; the rest is small. */
const NAMED = 4;

function growth(perDay: number | null | undefined): string {
  if (perDay == null) return 'growth is known after six hours';
  return perDay < 0 ? 'it does not grow' : `it grows by ${bytes(perDay)} a day`;
}

function room(storage: Storage): string {
  if (storage.free_bytes == null)
    return 'free room is not known: [disk] database_mb says how large a database elsewhere may become';
  const free = `${bytes(storage.free_bytes)} free`;
  const days = storage.full_in_days;
  if (days == null) return free;
  return days > LONG_DAYS
    ? `${free}, full in more than ten years`
    : `${free}, full in ${Math.round(days)} days`;
}

/** Room on the disk, and how long measurements are kept. */
export function StorageState() {
  const { data, error } = useQuery(queries.storage());
  if (error && !data) return <ErrorAlert error={error} />;
  if (!data) return null;
  const largest = data.tables.slice(0, NAMED).map((it) => `${it.name} ${bytes(it.bytes)}`);
  return (
    <section aria-label="Storage">
      <h2 className="section">Storage</h2>
      <p className="said">
        Database {bytes(data.bytes)}; {growth(data.growth_bytes_per_day)}. Disk: {room(data)}.
      </p>
      {data.note && <Alert type="error" showIcon title={data.note.text} />}
      <p className="said quiet">
        Rounds are kept for {data.rounds_days} days, findings and evidence for {data.findings_days},
        rollups for {data.rollups_days}, incidents and audit for ever. Largest tables:{' '}
        {largest.join(', ')}.
      </p>
    </section>
  );
}
