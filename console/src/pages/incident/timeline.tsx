import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Button, Form, Input } from 'antd';
import { Link } from 'react-router';
import { addNote } from '../../api/client';
import { keepIncident } from '../../api/keep-incident';
import type { IncidentDetail, TimelineEntry } from '../../api/client';
import { ActionWords } from '../../components/handling';
import { Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';

const WORDS: Record<TimelineEntry['kind'], string> = {
  opened: 'opened it',
  'alarm-raised': 'raised an alarm',
  'alarm-cleared': 'cleared an alarm',
  'event-began': 'recorded an event',
  'event-ended': 'saw it end',
  'diagnosis-started': 'ran a diagnosis',
  note: 'noted',
  closed: 'closed it',
  reopened: 'opened it again',
  'alarm-acknowledged': 'acknowledged an alarm',
  'alarm-unacknowledged': 'withdrew an acknowledgement',
  'alarm-assigned': 'assigned an alarm',
  'alarm-shelved': 'shelved an alarm',
  'alarm-unshelved': 'unshelved an alarm',
  'alarm-closed': 'closed an alarm',
  'alarm-reopened': 'reopened an alarm',
  'alarm-attached': 'attached an alarm',
  'notice-sent': 'sent a notice',
  'notice-failed': 'could not deliver a notice',
  unknown: 'made an entry that this version cannot show',
};

/** An entry of the timeline of an incident. */
export function Entry({ event }: { event: TimelineEntry }) {
  return (
    <li className="entry" data-event={event.kind}>
      <p className="said quiet">
        <Time at={event.at} /> · {event.user}{' '}
        {event.action == null ? (
          WORDS[event.kind]
        ) : (
          <>
            · <Link to={`/alarms?show=all&alarm=${event.alarm_no}`}>alarm {event.alarm_no}</Link>{' '}
            <ActionWords done={event.action} />
          </>
        )}
      </p>
      {event.action?.text != null && <p className="said words">{event.action.text}</p>}
      {event.action == null && event.text != null && <p className="said words">{event.text}</p>}
    </li>
  );
}

/** The timeline, oldest first, with a form for notes; new entries are added below. */
export function Timeline({ incident }: { incident: IncidentDetail }) {
  const client = useQueryClient();
  const [form] = Form.useForm<{ text: string }>();
  const note = useMutation({
    mutationFn: ({ text }: { text: string }) => addNote(incident.id, text),
    onSuccess: (changed) => {
      keepIncident(client, changed);
      form.resetFields();
    },
  });
  return (
    <section aria-labelledby="timeline">
      <h2 className="section" id="timeline">
        Timeline
      </h2>
      <ol className="plain-list">
        {incident.events.map((event) => (
          <Entry key={event.id} event={event} />
        ))}
      </ol>
      <Form form={form} layout="vertical" onFinish={(fields) => note.mutate(fields)}>
        <Form.Item
          name="text"
          label="Note"
          rules={[{ required: true, whitespace: true, message: 'Nothing is written yet.' }]}
          required={false}
        >
          <Input.TextArea rows={3} maxLength={10000} />
        </Form.Item>
        <Button htmlType="submit" loading={note.isPending}>
          Add the note
        </Button>
      </Form>
      {note.error && <ErrorAlert error={note.error} />}
    </section>
  );
}
