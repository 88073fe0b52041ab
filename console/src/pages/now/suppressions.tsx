import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button } from 'antd';
import type { Suppression } from '../../api/client';
import { liftSuppression } from '../../api/client';
import { queries } from '../../api/queries';
import { Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';

function what({ site, target }: Suppression): string {
  if (site == null && target == null) return 'at all';
  return [site != null && `from ${site}`, target != null && `to ${target}`]
    .filter(Boolean)
    .join(' ');
}

/** What is not measured on purpose; nothing where everything is. */
export function Suppressions() {
  const client = useQueryClient();
  const { data, error } = useQuery(queries.suppressions());
  const lift = useMutation({
    mutationFn: liftSuppression,
    onSettled: () => client.invalidateQueries({ queryKey: ['suppressions'] }),
  });
  if (error) return <ErrorAlert error={error} />;
  if (!data || data.length === 0) return null;
  return (
    <section aria-labelledby="not-measured">
      <h2 className="section" id="not-measured">
        Not measured on purpose
      </h2>
      <ul className="plain-list">
        {data.map((one) => (
          <li className="entry" key={one.id}>
            <p className="said">
              Nothing is measured {what(one)} from <Time at={one.from} /> until{' '}
              <Time at={one.until} />: {one.reason} ({one.user}){' '}
              <Button
                size="small"
                loading={lift.isPending && lift.variables === one.id}
                onClick={() => lift.mutate(one.id)}
              >
                Lift
              </Button>
            </p>
          </li>
        ))}
      </ul>
      {lift.error && <ErrorAlert error={lift.error} />}
    </section>
  );
}
