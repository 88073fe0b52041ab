import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Button, Form, Input } from 'antd';
import { addNote } from '../../api/client';
import type { IncidentDetail, IncidentEvent } from '../../api/client';
import { Time } from '../../time';
import { Trouble } from '../../trouble';

const WORDS: Record<string, string> = {
  opened: 'opened it',
  'alarm-raised': 'raised an alarm',
  'alarm-cleared': 'cleared an alarm',
  'event-began': 'saw trouble begin',
  'event-ended': 'saw it end',
  'outward-asked': 'had a look taken outward',
  note: 'noted',
  closed: 'closed it',
  reopened: 'opened it again',
};

function Entry({ event }: { event: IncidentEvent }) {
  return (
    <li className="entry" data-event={event.kind}>
      <p className="said quiet">
        <Time at={event.at} /> · {event.person} {WORDS[event.kind] ?? event.kind}
      </p>
      {event.text != null && <p className="said words">{event.text}</p>}
    </li>
  );
}

/** What happened, oldest first, and a place to write; what comes is added below. */
export function Timeline({ incident }: { incident: IncidentDetail }) {
  const client = useQueryClient();
  const [form] = Form.useForm<{ text: string }>();
  const note = useMutation({
    mutationFn: ({ text }: { text: string }) => addNote(incident.id, text),
    onSuccess: (changed) => {
      client.setQueryData(['incident', incident.id], changed);
      form.resetFields();
    },
  });
  return (
    <section aria-labelledby="timeline">
      <h2 className="section" id="timeline">
        What happened
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
      {note.error && <Trouble error={note.error} />}
    </section>
  );
}
