import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Modal, Popconfirm, Skeleton, Space, Table, Typography } from 'antd';
import { useState } from 'react';
import type { Receiver, ReceiverRequest } from '../../api/client';
import {
  addReceiver,
  changeReceiver,
  removeReceiver,
  testReceiver,
  writtenReceiver,
} from '../../api/client';
import { queries } from '../../api/queries';
import { ErrorAlert } from '../../components/error-alert';
import { ReceiverForm } from './receiver-form';
import { addressOf, routeWords } from './words';

/** A receiver that is edited, or a new one. */
type Edited = { receiver: Receiver | null };

/** Where notices go. Administrators change it. */
export function Receivers({ isAdministrator }: { isAdministrator: boolean }) {
  const client = useQueryClient();
  const answer = useQuery(queries.receivers());
  const [edited, setEdited] = useState<Edited | null>(null);
  const [secretOf, setSecretOf] = useState<Receiver | null>(null);
  const settled = async () => {
    await client.invalidateQueries({ queryKey: ['receivers'] });
    await client.invalidateQueries({ queryKey: ['notices'] });
  };
  const save = useMutation({
    mutationFn: ({ id, to }: { id: string | null; to: ReceiverRequest }) =>
      id === null ? addReceiver(to) : changeReceiver(id, to),
    onSuccess: (saved) => {
      setEdited(null);
      if (saved.secret != null) setSecretOf(saved);
    },
    onSettled: settled,
  });
  const test = useMutation({ mutationFn: testReceiver, onSettled: settled });
  const remove = useMutation({ mutationFn: removeReceiver, onSettled: settled });
  const receivers = answer.data;
  return (
    <section aria-label="Receivers">
      <div className="actions">
        <h2 className="section" style={{ flex: 1 }}>
          Receivers
        </h2>
        {isAdministrator && (
          <Button onClick={() => setEdited({ receiver: null })}>Add receiver</Button>
        )}
      </div>
      {answer.error && <ErrorAlert error={answer.error} />}
      {[test, remove, edited === null ? save : null].map(
        (change, at) => change?.error && <ErrorAlert key={at} error={change.error} />,
      )}
      {!receivers && !answer.error && <Skeleton active paragraph={{ rows: 2 }} />}
      {receivers?.length === 0 && (
        <p>
          No receiver yet: alarms are shown in this console only.{' '}
          {isAdministrator
            ? 'Add one to send alarms by webhook, e-mail or syslog.'
            : 'An administrator can add one.'}
        </p>
      )}
      {receivers && receivers.length > 0 && (
        <Table<Receiver>
          size="small"
          rowKey="id"
          pagination={false}
          dataSource={receivers}
          scroll={{ x: 'max-content' }}
          columns={[
            {
              title: 'Name',
              render: (_, one) => (one.enabled ? one.name : `${one.name} (disabled)`),
            },
            { title: 'Channel', dataIndex: 'channel' },
            { title: 'Address', render: (_, one) => addressOf(one) },
            {
              title: 'Notices',
              render: (_, one) =>
                one.routes === undefined || one.routes.length === 0
                  ? 'only on request'
                  : one.routes.map(routeWords).join(', or '),
            },
            ...(isAdministrator
              ? [
                  {
                    title: 'Action',
                    render: (_: unknown, one: Receiver) => (
                      <Space>
                        <Button size="small" onClick={() => test.mutate(one.id)}>
                          Test
                        </Button>
                        <Button size="small" onClick={() => setEdited({ receiver: one })}>
                          Edit
                        </Button>
                        <Button
                          size="small"
                          onClick={() =>
                            save.mutate({
                              id: one.id,
                              to: { ...writtenReceiver(one), enabled: !one.enabled },
                            })
                          }
                        >
                          {one.enabled ? 'Disable' : 'Enable'}
                        </Button>
                        <Popconfirm
                          title={`Remove ${one.name}?`}
                          description="Notices that wait for it are not sent."
                          okText="Remove"
                          onConfirm={() => remove.mutate(one.id)}
                        >
                          <Button size="small">Remove</Button>
                        </Popconfirm>
                      </Space>
                    ),
                  },
                ]
              : []),
          ]}
        />
      )}
      {edited && (
        <ReceiverForm
          receiver={edited.receiver}
          error={save.error}
          isSaving={save.isPending}
          onCancel={() => {
            save.reset();
            setEdited(null);
          }}
          onSave={(to) => save.mutate({ id: edited.receiver?.id ?? null, to })}
        />
      )}
      <Modal
        open={secretOf !== null}
        title={`Secret of ${secretOf?.name}`}
        onCancel={() => setSecretOf(null)}
        footer={<Button onClick={() => setSecretOf(null)}>Close</Button>}
      >
        <p>
          Requests are signed with it (RFC 9421, hmac-sha256). Enter it at the receiver. It is shown
          only now.
        </p>
        <Typography.Paragraph copyable className="mono">
          {secretOf?.secret}
        </Typography.Paragraph>
      </Modal>
    </section>
  );
}
