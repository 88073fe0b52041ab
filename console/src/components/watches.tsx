import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Drawer, Form, Input, InputNumber, Select } from 'antd';
import { Link } from 'react-router';
import type { Watch, WatchChange } from '../api/client';
import { changeWatch, startWatch } from '../api/client';
import { queries } from '../api/queries';
import { Time } from './time';
import { ErrorAlert } from './error-alert';
import { Notes } from './notes';

/** A watch as a dated record, with what it has found, and what can be done with it. */
export function WatchEntry({ watch }: { watch: Watch }) {
  const client = useQueryClient();
  const lasts = watch.state !== 'over';
  // Results of a running watch are read again; those of an ended watch do not change.
  const live = useQuery({ ...queries.watch(watch.id), enabled: watch.found == null });
  const incidents = useQuery(queries.incidents('open'));
  const change = useMutation({
    mutationFn: (wanted: WatchChange) => changeWatch(watch.id, wanted),
    onSuccess: () =>
      client.invalidateQueries({
        predicate: ({ queryKey }) => ['watches', 'watch', 'incident'].includes(String(queryKey[0])),
      }),
  });
  const found = watch.found ?? live.data?.found;
  return (
    <li className="entry">
      <p className="said">
        <Link to={`/paths/${watch.path}`}>
          <strong>
            Watch {watch.no}: {watch.site} to {watch.target} by {watch.method} over {watch.family}
          </strong>
        </Link>
      </p>
      <p className="said quiet">
        {watch.state}, each {watch.interval_ms / 1000} s from <Time at={watch.begins_at} /> until{' '}
        <Time at={watch.ends_at} />; {watch.user}
        {watch.reason !== '' && `: ${watch.reason}`}
        {watch.incident != null && (
          <>
            {'; '}
            <Link to={`/incidents/${watch.incident_no ?? watch.incident}`}>
              part of incident {watch.incident_no}
            </Link>
          </>
        )}
      </p>
      {found && <Notes notes={found.notes} />}
      <div style={{ display: 'flex', gap: 8, marginTop: 6, alignItems: 'center' }}>
        {watch.state === 'running' && (
          <Button size="small" onClick={() => change.mutate({ do: 'pause' })}>
            Pause
          </Button>
        )}
        {watch.state === 'paused' && (
          <Button size="small" onClick={() => change.mutate({ do: 'resume' })}>
            Resume
          </Button>
        )}
        {lasts && (
          <Button size="small" onClick={() => change.mutate({ do: 'end' })}>
            End now
          </Button>
        )}
        {watch.incident == null && (incidents.data?.length ?? 0) > 0 && (
          <Select
            size="small"
            style={{ width: 210 }}
            placeholder="Make it part of incident"
            aria-label={`Make watch ${watch.no} part of an incident`}
            options={incidents.data?.map(({ id, no }) => ({ value: id, label: `Incident ${no}` }))}
            onChange={(incident: string) => change.mutate({ do: 'attach', incident })}
          />
        )}
      </div>
      {change.error && <ErrorAlert error={change.error} />}
    </li>
  );
}

interface Fields {
  every: number;
  minutes: number;
  reason?: string;
}

/** Starts a watch: measures a path more often for a limited time. */
export function WatchForm({ path, onClose }: { path: string | null; onClose: () => void }) {
  const client = useQueryClient();
  const start = useMutation({
    mutationFn: ({ every, minutes, reason }: Fields) =>
      startWatch({
        path: path ?? '',
        interval_ms: Math.round(every * 1000),
        ends_at: new Date(Date.now() + minutes * 60_000).toISOString(),
        reason: reason ?? '',
      }),
    onSuccess: async () => {
      onClose();
      await client.invalidateQueries({ queryKey: ['watches'] });
    },
  });
  return (
    <Drawer
      open={path !== null}
      onClose={onClose}
      title="Watch this path"
      size={420}
      destroyOnHidden
    >
      <p className="quiet">
        Measures it more densely until then, and keeps what was found as a record that outlives the
        measurements.
      </p>
      <Form<Fields>
        layout="vertical"
        requiredMark={false}
        initialValues={{ every: 1, minutes: 60 }}
        onFinish={(fields) => start.mutate(fields)}
      >
        <Form.Item name="every" label="A round each so many seconds">
          <InputNumber min={0.5} max={60} step={0.5} style={{ width: '100%' }} />
        </Form.Item>
        <Form.Item name="minutes" label="For so many minutes">
          <InputNumber min={1} max={10080} precision={0} style={{ width: '100%' }} />
        </Form.Item>
        <Form.Item name="reason" label="Why">
          <Input.TextArea rows={2} maxLength={10000} />
        </Form.Item>
        <Button type="primary" htmlType="submit" loading={start.isPending}>
          Begin
        </Button>
      </Form>
      <div style={{ marginTop: 16 }}>{start.error && <ErrorAlert error={start.error} />}</div>
    </Drawer>
  );
}
