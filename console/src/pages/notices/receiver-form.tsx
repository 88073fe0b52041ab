import { Button, Form, Input, InputNumber, Modal, Select, Space } from 'antd';
import type { Receiver, ReceiverRequest, Route } from '../../api/client';
import { writtenReceiver } from '../../api/client';
import { HoursFields, NameFields, SEVERITIES, givenHours } from '../../components/condition-fields';
import { ErrorAlert } from '../../components/error-alert';

const CHANNELS = [
  { value: 'mail', label: 'E-mail' },
  { value: 'webhook', label: 'Webhook' },
  { value: 'action', label: 'Action webhook' },
  { value: 'syslog', label: 'Syslog' },
];
const TRANSPORTS = ['udp', 'tcp', 'tls'].map((value) => ({ value, label: value.toUpperCase() }));

/** The channel decides which other fields there are. */
interface Fields {
  name: string;
  channel: Receiver['channel'];
  url?: string;
  per_hour?: number;
  to?: string[];
  host?: string;
  port?: number;
  transport?: string;
  routes?: Route[];
}

/** Without hours that were left empty. */
function kept({ hours, ...rest }: Route): Route {
  const given = givenHours(hours);
  return given === undefined ? rest : { ...rest, hours: given };
}

function requested(fields: Fields, before: Receiver | null): ReceiverRequest {
  const { routes, ...rest } = fields;
  const enabled = before?.enabled ?? true;
  return { ...rest, enabled, routes: (routes ?? []).map(kept) } as ReceiverRequest;
}

interface Props {
  receiver: Receiver | null;
  error: Error | null;
  isSaving: boolean;
  onCancel: () => void;
  onSave: (receiver: ReceiverRequest) => void;
}

/** A receiver with its routes. */
export function ReceiverForm({ receiver, error, isSaving, onCancel, onSave }: Props) {
  const [form] = Form.useForm<Fields>();
  const channel = Form.useWatch('channel', form);
  const first = receiver === null ? { channel: 'mail', routes: [{}] } : writtenReceiver(receiver);
  const needed = (message: string) => [{ required: true, message }];
  return (
    <Modal
      open
      width={720}
      title={receiver === null ? 'Add receiver' : `Edit ${receiver.name}`}
      okText="Save"
      confirmLoading={isSaving}
      onCancel={onCancel}
      onOk={() => form.submit()}
    >
      {error && <ErrorAlert error={error} />}
      <Form<Fields>
        form={form}
        layout="vertical"
        initialValues={{ per_hour: 6, port: 514, transport: 'udp', ...first }}
        onFinish={(fields) => onSave(requested(fields, receiver))}
      >
        <Space align="start" size="large">
          <Form.Item name="name" label="Name" rules={needed('A name is needed.')}>
            <Input maxLength={60} style={{ width: 300 }} />
          </Form.Item>
          <Form.Item name="channel" label="Channel">
            <Select options={CHANNELS} style={{ width: 180 }} />
          </Form.Item>
        </Space>
        {channel === 'mail' && (
          <Form.Item name="to" label="Addresses" rules={needed('An address is needed.')}>
            <Select mode="tags" open={false} suffixIcon={null} tokenSeparators={[',', ' ']} />
          </Form.Item>
        )}
        {(channel === 'webhook' || channel === 'action') && (
          <Form.Item name="url" label="URL" rules={needed('A URL is needed.')}>
            <Input placeholder="https://desk.example/notices" />
          </Form.Item>
        )}
        {channel === 'action' && (
          <Form.Item name="per_hour" label="Requests within an hour, at most">
            <InputNumber min={1} max={1000} />
          </Form.Item>
        )}
        {channel === 'syslog' && (
          <Space align="start" size="large">
            <Form.Item name="host" label="Host" rules={needed('A host is needed.')}>
              <Input style={{ width: 300 }} />
            </Form.Item>
            <Form.Item name="port" label="Port">
              <InputNumber min={1} max={65535} />
            </Form.Item>
            <Form.Item name="transport" label="Transport">
              <Select options={TRANSPORTS} style={{ width: 90 }} />
            </Form.Item>
          </Space>
        )}
        <Form.List name="routes">
          {(fields, { add, remove }) => (
            <>
              {fields.map(({ key, name }) => (
                <RouteFields key={key} at={name} onRemove={() => remove(name)} />
              ))}
              {fields.length === 0 && (
                <p className="quiet">Without a route only notices on request are sent.</p>
              )}
              <Button onClick={() => add({})}>Add route</Button>
            </>
          )}
        </Form.List>
      </Form>
    </Modal>
  );
}

/** Conditions of one route; empty ones hold always. */
function RouteFields({ at, onRemove }: { at: number; onRemove: () => void }) {
  return (
    <fieldset className="route">
      <legend>Route {at + 1}: notices that meet each condition</legend>
      <div className="fields">
        <Form.Item name={[at, 'severity']} label="Least severity" style={{ marginBottom: 8 }}>
          <Select allowClear options={SEVERITIES} placeholder="any" style={{ width: 120 }} />
        </Form.Item>
        <NameFields at={[at]} fields={{ sites: 'Sites', services: 'Services', tags: 'Tags' }} />
      </div>
      <HoursFields at={[at, 'hours']} />
      <Button size="small" onClick={onRemove}>
        Remove route {at + 1}
      </Button>
    </fieldset>
  );
}
