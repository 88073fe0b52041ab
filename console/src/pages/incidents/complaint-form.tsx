import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, DatePicker, Drawer, Form, Input, Select } from 'antd';
import type { Dayjs } from 'dayjs';
import dayjs from 'dayjs';
import { useNavigate } from 'react-router';
import { openIncident } from '../../api/client';
import { keepIncident } from '../../api/keep-incident';
import { queries } from '../../api/queries';
import { ErrorAlert } from '../../components/error-alert';

interface Fields {
  site: string;
  service: string;
  about: Dayjs;
  words?: string;
}

function options(names: string[]) {
  return [...new Set(names)].toSorted().map((name) => ({ value: name, label: name }));
}

/** Form that opens an incident from a report: site, service, start and description. */
export function ComplaintForm({ open, onClose }: { open: boolean; onClose: () => void }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const paths = useQuery({ ...queries.paths(), enabled: open });
  const entry = useMutation({
    mutationFn: ({ about, words, ...rest }: Fields) =>
      openIncident({ ...rest, words: words ?? '', about: about.toISOString() }),
    onSuccess: (incident) => {
      keepIncident(client, incident);
      onClose();
      void navigate(`/incidents/${incident.no}`);
    },
  });
  return (
    <Drawer open={open} onClose={onClose} title="Report a problem" size={460} destroyOnHidden>
      <p className="quiet">
        Opens an incident with what was measured from there to the service around that time, and its
        neighbours beside it.
      </p>
      <Form<Fields>
        layout="vertical"
        requiredMark={false}
        initialValues={{ about: dayjs() }}
        onFinish={(fields) => entry.mutate(fields)}
      >
        <Form.Item
          name="site"
          label="Where are they?"
          rules={[{ required: true, message: 'Which site?' }]}
        >
          <Select
            showSearch
            placeholder="Site"
            options={options(paths.data?.map((path) => path.site) ?? [])}
          />
        </Form.Item>
        <Form.Item
          name="service"
          label="What is it about?"
          rules={[{ required: true, message: 'Which service?' }]}
        >
          <Select
            showSearch
            placeholder="Service"
            options={options(paths.data?.map((path) => path.service) ?? [])}
          />
        </Form.Item>
        <Form.Item
          name="about"
          label="Since about when? (your local time)"
          rules={[{ required: true, message: 'About when?' }]}
        >
          <DatePicker
            showTime={{ format: 'HH:mm' }}
            format="YYYY-MM-DD HH:mm"
            maxDate={dayjs().endOf('day')}
            style={{ width: '100%' }}
          />
        </Form.Item>
        <Form.Item name="words" label="In their own words">
          <Input.TextArea rows={3} maxLength={10000} />
        </Form.Item>
        <Button type="primary" htmlType="submit" loading={entry.isPending}>
          Open the incident
        </Button>
      </Form>
      <div style={{ marginTop: 16 }}>{entry.error && <ErrorAlert error={entry.error} />}</div>
    </Drawer>
  );
}
