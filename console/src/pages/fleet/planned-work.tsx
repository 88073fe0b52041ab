import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Form, Input, InputNumber, Modal, Popconfirm, Skeleton } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import type { CalendarRequest, SavedCalendar } from '../../api/client';
import { removeCalendar, saveCalendar } from '../../api/client';
import { queries } from '../../api/queries';
import { ErrorAlert } from '../../components/error-alert';
import { Time } from '../../components/time';
import { plannedWords } from './planned-words';

interface Fields {
  name: string;
  url?: string;
  site?: string;
  owner?: number;
  zone?: string;
}

const ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** Work that calendars plan, with the alarms that it explains. Administrators save calendars. */
export function PlannedWorkSection() {
  const client = useQueryClient();
  const session = useQuery(queries.session());
  const isAdministrator = session.data?.role === 'administrator';
  const calendars = useQuery(queries.calendars());
  const work = useQuery(queries.plannedWork());
  const [isSaving, setSaving] = useState(false);
  const [saved, setSaved] = useState<SavedCalendar | null>(null);
  const settled = async () => {
    await client.invalidateQueries({ queryKey: ['calendars'] });
    await client.invalidateQueries({ queryKey: ['planned-work'] });
  };
  const save = useMutation({
    mutationFn: ({ name, to }: { name: string; to: CalendarRequest }) => saveCalendar(name, to),
    onSuccess: (answer) => {
      setSaving(false);
      setSaved(answer);
    },
    onSettled: settled,
  });
  const remove = useMutation({ mutationFn: removeCalendar, onSettled: settled });
  return (
    <section aria-label="Planned work">
      <div className="actions">
        <h2 className="section" style={{ flex: 1 }}>
          Planned work
        </h2>
        {isAdministrator && <Button onClick={() => setSaving(true)}>Save a calendar</Button>}
      </div>
      {[calendars, work, remove].map(
        (asked, at) => asked.error && <ErrorAlert key={at} error={asked.error} />,
      )}
      {!calendars.data && !calendars.error && <Skeleton active paragraph={{ rows: 2 }} />}
      {calendars.data?.length === 0 && (
        <p className="quiet">
          No calendar. One in iCalendar format shelves the alarms that planned work explains.
        </p>
      )}
      {saved && (
        <p role="status">
          {saved.name}: {saved.occurrences} planned.
          {saved.refused.map((reason) => (
            <span key={reason}> Left out: {reason}.</span>
          ))}
        </p>
      )}
      <ul className="plain-list">
        {work.data?.map((one) => (
          <li key={`${one.calendar} ${one.starts_at} ${one.summary}`}>
            <Time at={one.starts_at} /> to <Time at={one.ends_at} />: {plannedWords(one)}
            {one.explained.length > 0 && '; explains'}
            {one.explained.map((no) => (
              <span key={no}>
                {' '}
                <Link to={`/alarms?show=all&alarm=${no}`}>alarm {no}</Link>
              </span>
            ))}
          </li>
        ))}
        {calendars.data?.map((calendar) => (
          <li key={calendar.name} className="quiet">
            Calendar {calendar.name}: {calendar.occurrences} planned, from{' '}
            {calendar.url ?? 'a file'}, <Time at={calendar.fetched_at} />
            {calendar.error != null && `. Not fetched since: ${calendar.error}`}
            {isAdministrator && (
              <>
                {' '}
                <Popconfirm
                  title={`Remove ${calendar.name}?`}
                  description="Its planned work is removed too. Alarms that it explained stay shelved."
                  okText="Remove"
                  onConfirm={() => remove.mutate(calendar.name)}
                >
                  <Button size="small">Remove</Button>
                </Popconfirm>
              </>
            )}
          </li>
        ))}
      </ul>
      {isSaving && (
        <CalendarForm
          error={save.error}
          isPending={save.isPending}
          onCancel={() => {
            save.reset();
            setSaving(false);
          }}
          onSave={(name, to) => save.mutate({ name, to })}
        />
      )}
    </section>
  );
}

interface Props {
  error: Error | null;
  isPending: boolean;
  onCancel: () => void;
  onSave: (name: string, to: CalendarRequest) => void;
}

function CalendarForm({ error, isPending, onCancel, onSave }: Props) {
  const [form] = Form.useForm<Fields>();
  const [content, setContent] = useState<string | null>(null);
  const url = Form.useWatch('url', form);
  const isGiven = content !== null || Boolean(url);
  return (
    <Modal
      open
      title="Save a calendar"
      okText="Save"
      okButtonProps={{ disabled: !isGiven }}
      confirmLoading={isPending}
      onCancel={onCancel}
      onOk={() => form.submit()}
    >
      {error && <ErrorAlert error={error} />}
      <Form<Fields>
        form={form}
        layout="vertical"
        onFinish={({ name, zone, ...rest }) =>
          onSave(name, { ...rest, ...(url ? {} : { content }), zone: zone || ZONE })
        }
      >
        <Form.Item
          name="name"
          label="Name"
          rules={[{ required: true, message: 'A name is needed.' }]}
        >
          <Input maxLength={60} />
        </Form.Item>
        <Form.Item label="File" htmlFor="calendar-file">
          <input
            id="calendar-file"
            type="file"
            accept=".ics,text/calendar"
            onChange={(event) => {
              const file = event.target.files?.[0];
              if (file) void file.text().then(setContent);
            }}
          />
        </Form.Item>
        <Form.Item name="url" label="Or a URL, fetched every 15 minutes">
          <Input placeholder="https://provider.example/work.ics" />
        </Form.Item>
        <Form.Item
          name="owner"
          label="AS number of the owner that works, where an event names none"
        >
          <InputNumber min={1} max={4294967295} style={{ width: 160 }} />
        </Form.Item>
        <Form.Item name="site" label="Or the site">
          <Input />
        </Form.Item>
        <Form.Item name="zone" label="Time zone of times without one">
          <Input placeholder={ZONE} />
        </Form.Item>
      </Form>
    </Modal>
  );
}
