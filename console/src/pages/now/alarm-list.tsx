import { Card, Flex, Tag } from 'antd';
import { Link } from 'react-router';
import type { Alarm, PathItem } from '../../api/client';
import { Time } from '../../time';

interface Props {
  alarms: Alarm[];
  paths: PathItem[];
}

function called(path: PathItem): string {
  return `${path.site} to ${path.target} (${path.method})`;
}

/** Open alarms as sentences, each with whom to call and the paths that show it. */
export function AlarmList({ alarms, paths }: Props) {
  return (
    <Flex vertical gap={12} style={{ marginTop: 20 }}>
      {alarms.map((alarm) => {
        const shown = paths.filter((path) => alarm.showing.includes(path.id));
        return (
          <Card key={alarm.id} size="small" data-alarm={alarm.id}>
            <p className="said">
              <Tag variant="outlined" className="severity">
                {alarm.perceived_severity}
              </Tag>
              {/* A single alarm is the page's own sentence already. */}
              {alarms.length > 1 && <strong>{alarm.sentence} </strong>}
              Since <Time at={alarm.since} />, raised <Time at={alarm.raised_at} />.
            </p>
            {alarm.place.owners.map((owner) => (
              <p className="said" key={owner.as_number}>
                Call {owner.name}
                {owner.contact && ` (${owner.contact})`}.
              </p>
            ))}
            <p className="said">
              Seen on:{' '}
              {shown.map((path, index) => (
                <span key={path.id}>
                  {index > 0 && ', '}
                  <Link to={`/paths/${path.id}`}>{called(path)}</Link>
                </span>
              ))}
            </p>
          </Card>
        );
      })}
    </Flex>
  );
}
