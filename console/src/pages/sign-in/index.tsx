import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Button, Form, Input } from 'antd';
import { signIn } from '../../api/client';
import { ErrorAlert } from '../../components/error-alert';

interface Fields {
  name: string;
  password: string;
}

/** Sign-in form, shown at the requested address. */
export function SignInPage() {
  const client = useQueryClient();
  const entry = useMutation({
    mutationFn: ({ name, password }: Fields) => signIn(name, password),
    onSuccess: (session) => client.setQueryData(['session'], session),
  });
  return (
    <main className="page" style={{ maxWidth: 420, paddingTop: 90 }}>
      <p className="mark">
        <img src="/mark.svg" alt="" />
        Itinera
      </p>
      <h1 className="sentence">Locate loss and delay on network paths.</h1>
      <Form<Fields> layout="vertical" requiredMark={false} onFinish={(f) => entry.mutate(f)}>
        <Form.Item name="name" label="Name" rules={[{ required: true, message: 'Who signs in?' }]}>
          <Input autoComplete="username" />
        </Form.Item>
        <Form.Item
          name="password"
          label="Password"
          rules={[{ required: true, message: 'The password is missing.' }]}
        >
          <Input type="password" autoComplete="current-password" />
        </Form.Item>
        <Button type="primary" htmlType="submit" loading={entry.isPending} block>
          Sign in
        </Button>
      </Form>
      <div style={{ marginTop: 16 }}>{entry.error && <ErrorAlert error={entry.error} />}</div>
      <p className="quiet">
        The first administrator&apos;s password is in the file first-administrator in the
        service&apos;s data directory.
      </p>
    </main>
  );
}
