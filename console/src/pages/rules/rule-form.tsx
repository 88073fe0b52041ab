import { Button, Form, Input, InputNumber, Modal, Select, Space } from 'antd';
import type { Rule, Severity } from '../../api/client';
import { HoursFields, NameFields, SEVERITIES, givenHours } from '../../components/condition-fields';

/** Limits as people write them: per cent and seconds. */
interface Fields extends Omit<Rule, 'limits' | 'owners' | 'quiet'> {
  owners?: string[];
  loss_per_cent?: number | null;
  added_delay_ms?: number | null;
  confidence_per_cent?: number | null;
  hold_s?: number | null;
  clear_s?: number | null;
  quiet?: { hours?: Partial<NonNullable<Rule['quiet']>['hours']>; most?: Severity | null };
}

const scaled = (value: number | null | undefined, by: number) =>
  value == null ? value : Math.round(value * by * 1e6) / 1e6;

function fieldsOf({ limits, owners, quiet, ...rest }: Rule): Fields {
  return {
    ...rest,
    owners: owners?.map(String),
    loss_per_cent: scaled(limits?.loss_ratio, 100),
    added_delay_ms: limits?.added_delay_ms,
    confidence_per_cent: scaled(limits?.confidence, 100),
    hold_s: scaled(limits?.hold_windows, 10),
    clear_s: scaled(limits?.clear_windows, 10),
    quiet: quiet ?? undefined,
  };
}

function ruleOf(fields: Fields): Rule {
  const { owners, loss_per_cent, added_delay_ms, confidence_per_cent, hold_s, clear_s } = fields;
  const { name, sites, services, tags, severity } = fields;
  const hours = givenHours(fields.quiet?.hours);
  return {
    name: name.trim(),
    sites,
    services,
    tags,
    owners: owners?.map((owner) => Number(owner.replace(/^AS/i, ''))),
    limits: {
      loss_ratio: scaled(loss_per_cent, 0.01),
      added_delay_ms,
      confidence: scaled(confidence_per_cent, 0.01),
      hold_windows: scaled(hold_s, 0.1),
      clear_windows: scaled(clear_s, 0.1),
    },
    severity,
    quiet: hours === undefined ? null : { hours, most: fields.quiet?.most },
  };
}

interface Props {
  rule: Rule | null;
  onCancel: () => void;
  onDone: (rule: Rule) => void;
}

/** A rule: what it applies to, limits, severity and quiet hours. What is left empty is no change. */
export function RuleForm({ rule, onCancel, onDone }: Props) {
  const [form] = Form.useForm<Fields>();
  const number = (name: string, label: string, unit: string, most: number, step = 1) => (
    <Form.Item name={name} label={label} style={{ marginBottom: 8 }}>
      <InputNumber min={step} max={most} step={step} suffix={unit} style={{ width: 124 }} />
    </Form.Item>
  );
  return (
    <Modal
      open
      width={760}
      title={rule === null ? 'Add rule' : `Edit ${rule.name}`}
      okText="Done"
      onCancel={onCancel}
      onOk={() => form.submit()}
    >
      <Form<Fields>
        form={form}
        layout="vertical"
        initialValues={rule === null ? {} : fieldsOf(rule)}
        onFinish={(fields) => onDone(ruleOf(fields))}
      >
        <Form.Item
          name="name"
          label="Name"
          rules={[{ required: true, whitespace: true, message: 'A name is needed.' }]}
        >
          <Input maxLength={60} />
        </Form.Item>
        <fieldset className="route">
          <legend>Applies to paths that meet each condition</legend>
          <div className="fields">
            <NameFields at={[]} fields={{ sites: 'Sites', services: 'Services', tags: 'Tags' }} />
            <Form.Item
              name="owners"
              label="AS numbers at fault"
              style={{ width: 156, marginBottom: 8 }}
              rules={[
                {
                  validator: async (_, owners: string[] | undefined) => {
                    if (owners?.some((owner) => !/^(AS)?\d{1,10}$/i.test(owner)))
                      throw new Error('AS numbers such as 64500 are needed.');
                  },
                },
              ]}
            >
              <Select mode="tags" open={false} suffixIcon={null} placeholder="any" />
            </Form.Item>
          </div>
        </fieldset>
        <fieldset className="route">
          <legend>Limits held over</legend>
          <Space align="start" wrap>
            {number('loss_per_cent', 'Loss', '%', 100, 0.1)}
            {number('added_delay_ms', 'Added delay', 'ms', 60_000)}
            {number('confidence_per_cent', 'Confidence', '%', 100)}
            {number('hold_s', 'Held over', 's', 3_600, 10)}
            {number('clear_s', 'Clear after', 's', 3_600, 10)}
          </Space>
        </fieldset>
        <fieldset className="route">
          <legend>Severity by impact</legend>
          <Form.List name={['severity', 'least']}>
            {(steps, { add, remove }) => (
              <>
                {steps.map(({ key, name }) => (
                  <StepFields key={key} at={name} onRemove={() => remove(name)} />
                ))}
                <Button size="small" onClick={() => add({ severity: 'major' })}>
                  Add step
                </Button>
              </>
            )}
          </Form.List>
          <Form.Item name={['severity', 'most']} label="At most" style={{ margin: '8px 0 0' }}>
            <Select allowClear options={SEVERITIES} placeholder="any" style={{ width: 120 }} />
          </Form.Item>
        </fieldset>
        <fieldset className="route">
          <legend>
            Quiet hours: alarms that are raised within them are shelved until their end
          </legend>
          <HoursFields at={['quiet', 'hours']} />
          <Form.Item name={['quiet', 'most']} label="Up to severity" style={{ marginBottom: 0 }}>
            <Select allowClear options={SEVERITIES} placeholder="any" style={{ width: 120 }} />
          </Form.Item>
        </fieldset>
      </Form>
    </Modal>
  );
}

/** A severity that alarms have from some impact. */
function StepFields({ at, onRemove }: { at: number; onRemove: () => void }) {
  const least = (field: string, label: string) => (
    <Form.Item name={[at, field]} label={label} style={{ marginBottom: 8 }}>
      <InputNumber min={1} placeholder="1" style={{ width: 100 }} />
    </Form.Item>
  );
  return (
    <Space align="end" wrap style={{ display: 'flex' }}>
      <Form.Item name={[at, 'severity']} label="At least" style={{ marginBottom: 8 }}>
        <Select options={SEVERITIES} style={{ width: 120 }} />
      </Form.Item>
      {least('sites', 'From sites')}
      {least('services', 'From services')}
      {least('paths', 'From paths')}
      <Button size="small" onClick={onRemove} style={{ marginBottom: 12 }}>
        Remove step {at + 1}
      </Button>
    </Space>
  );
}
