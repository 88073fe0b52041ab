import { useQuery } from '@tanstack/react-query';
import { Button, Form, Input, Modal, Select } from 'antd';
import type { Alarm, AlarmActionRequest } from '../../api/client';
import { queries } from '../../api/queries';
import { count } from '../../format';
import type { Doing } from './triage';

/** What a dialog adds to a request. */
export type Filled = Omit<AlarmActionRequest, 'alarms'>;

/** Durations of shelving, in minutes. */
const DURATIONS = [
  { value: 30, label: '30 minutes' },
  { value: 60, label: '1 hour' },
  { value: 240, label: '4 hours' },
  { value: 480, label: '8 hours' },
  { value: 1440, label: '1 day' },
  { value: 10080, label: '7 days' },
];

const TITLES: Record<Doing, string> = {
  acknowledge: 'Acknowledge',
  'assign-me': 'Assign',
  assign: 'Assign',
  shelve: 'Shelve',
  attach: 'Attach',
  close: 'Close',
};

/** The field that gets the focus. */
const FIRST: Record<Doing, keyof Fields> = {
  acknowledge: 'text',
  'assign-me': 'text',
  assign: 'to',
  shelve: 'minutes',
  attach: 'incident',
  close: 'text',
};

interface Fields {
  to?: string;
  minutes?: number;
  incident?: string;
  text?: string;
}

function filled(doing: Doing, { to, minutes, incident, text = '' }: Fields): Filled {
  switch (doing) {
    case 'shelve': {
      const until = new Date(Date.now() + (minutes ?? 60) * 60_000).toISOString();
      return { action: 'shelve', until, text };
    }
    case 'attach':
      return { action: 'attach', incident: incident ?? null, text };
    case 'close':
      return { action: 'close', text };
    case 'acknowledge':
    case 'assign-me':
    case 'assign':
      return { action: 'assign', to: to ?? null, text };
  }
}

/** Asks for what an action needs: a user, a time and a reason, an incident, or a note. */
export function ActionDialog({
  doing,
  alarms,
  onDone,
  onCancel,
}: {
  doing: Doing;
  alarms: Alarm[];
  onDone: (filled: Filled) => void;
  onCancel: () => void;
}) {
  const [form] = Form.useForm<Fields>();
  const assignees = useQuery({ ...queries.assignees(), enabled: doing === 'assign' });
  const incidents = useQuery({ ...queries.incidents('open'), enabled: doing === 'attach' });
  const title = `${TITLES[doing]} ${alarms.length === 1 ? `alarm ${alarms[0]?.no}` : count(alarms.length, 'alarm')}`;
  return (
    <Modal
      open
      title={title}
      footer={null}
      onCancel={onCancel}
      destroyOnHidden
      afterOpenChange={(open) => open && form.focusField(FIRST[doing])}
    >
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={{ minutes: 60 }}
        onFinish={(fields) => onDone(filled(doing, fields))}
      >
        {doing === 'assign' && (
          <Form.Item name="to" label="User" rules={[{ required: true, message: 'Choose a user.' }]}>
            <Select
              showSearch
              placeholder="Analyst or administrator"
              options={assignees.data?.map((name) => ({ value: name, label: name }))}
            />
          </Form.Item>
        )}
        {doing === 'attach' && (
          <Form.Item
            name="incident"
            label="Incident"
            rules={[{ required: true, message: 'Choose an incident.' }]}
          >
            <Select
              showSearch
              optionFilterProp="label"
              placeholder="Open incident"
              options={incidents.data?.map(({ id, no, message }) => ({
                value: id,
                label: `${no}. ${message.headline}`,
              }))}
            />
          </Form.Item>
        )}
        {doing === 'shelve' && (
          <Form.Item name="minutes" label="For">
            <Select options={DURATIONS} />
          </Form.Item>
        )}
        <Form.Item
          name="text"
          label={doing === 'shelve' ? 'Reason' : 'Note'}
          rules={
            doing === 'shelve'
              ? [{ required: true, whitespace: true, message: 'Write a reason.' }]
              : []
          }
        >
          <Input maxLength={10000} />
        </Form.Item>
        {doing === 'close' && (
          <p className="said quiet">
            An alarm that is raised again, or with a higher severity, reopens by itself.
          </p>
        )}
        <Button type="primary" htmlType="submit">
          {title}
        </Button>
      </Form>
    </Modal>
  );
}
