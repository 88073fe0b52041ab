import { Form, Input, Select, Space } from 'antd';
import type { Route } from '../api/client';

type Hours = NonNullable<Route['hours']>;
type Place = (string | number)[];

export const SEVERITIES = ['critical', 'major', 'minor'].map((value) => ({ value, label: value }));
const DAYS = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'].map(
  (value) => ({ value, label: value }),
);
const ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** Hours with their zone; nothing where they were left empty. */
export function givenHours(hours: Partial<Hours> | null | undefined): Hours | undefined {
  if (hours == null || !hours.from || !hours.to) return undefined;
  return { ...hours, from: hours.from, to: hours.to, zone: hours.zone || ZONE };
}

/** Lists of names; an empty one is no condition. */
export function NameFields({ at, fields }: { at: Place; fields: Record<string, string> }) {
  return Object.entries(fields).map(([field, label]) => (
    <Form.Item
      key={field}
      name={[...at, field]}
      label={label}
      style={{ width: 156, marginBottom: 8 }}
    >
      <Select
        mode="tags"
        open={false}
        suffixIcon={null}
        placeholder="any"
        tokenSeparators={[',']}
      />
    </Form.Item>
  ));
}

/** Hours of the week; without them, always. */
export function HoursFields({ at }: { at: Place }) {
  return (
    <Space align="start" wrap>
      <Form.Item name={[...at, 'from']} label="From" style={{ marginBottom: 8 }}>
        <Input placeholder="08:00" style={{ width: 80 }} />
      </Form.Item>
      <Form.Item name={[...at, 'to']} label="To" style={{ marginBottom: 8 }}>
        <Input placeholder="17:00" style={{ width: 80 }} />
      </Form.Item>
      <Form.Item name={[...at, 'days']} label="Days" style={{ marginBottom: 8 }}>
        <Select mode="multiple" options={DAYS} placeholder="every day" style={{ minWidth: 180 }} />
      </Form.Item>
      <Form.Item name={[...at, 'zone']} label="Time zone" style={{ marginBottom: 8 }}>
        <Input placeholder={ZONE} style={{ width: 160 }} />
      </Form.Item>
    </Space>
  );
}
