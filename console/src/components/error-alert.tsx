import { Alert } from 'antd';
import { Refusal } from '../api/client';

/** Why a view is not there, and what the reader can do. */
export function ErrorAlert({ error }: { error: Error }) {
  const known = error instanceof Refusal;
  const title = known ? error.message : 'The service cannot be reached.';
  const more = known
    ? error.requestId && `Request ${error.requestId}, also in the service's log.`
    : 'What you see may be old. The page tries again by itself.';
  return <Alert type="warning" showIcon title={title} description={more} />;
}
