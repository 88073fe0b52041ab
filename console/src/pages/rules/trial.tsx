import type { Trial, TriedAlarm } from '../../api/client';
import { SeverityMark } from '../../components/severity';
import { Span } from '../../components/time';
import { count, listed } from '../../format';
import { countWords } from './words';

const BY: Record<TriedAlarm['raised_by'], string> = {
  both: 'also by the rules in force',
  'other-severity': 'with another severity than by the rules in force',
  'only-tried': 'new',
  'only-in-force': 'not raised any more',
};

/** Which alarms rules would have raised, beside those of the rules in force. */
export function TrialView({ result }: { result: Trial }) {
  const { tried, in_force, days, items, more } = result;
  return (
    <div role="status">
      <p className="said">
        <strong>
          {countWords(tried)} in the last {count(days, 'day')}
        </strong>
        ; by the rules in force {countWords(in_force)}. Tried on {count(result.findings, 'finding')}{' '}
        of paths; windows without a finding count as calm.
      </p>
      <ul className="plain-list" aria-label="Alarms of the trial">
        {items.map((item, at) => (
          <li key={at} className="entry" data-raised-by={item.raised_by}>
            <p className="said">
              <SeverityMark severity={item.severity} /> {item.headline}{' '}
              <span className="quiet">
                <Span since={item.since} until={item.cleared_at ?? null} />
              </span>
            </p>
            <p className="said quiet">{restOf(item)}</p>
          </li>
        ))}
      </ul>
      {more > 0 && <p className="quiet">{count(more, 'more alarm')} not listed.</p>}
    </div>
  );
}

function restOf(item: TriedAlarm): string {
  const parts = [BY[item.raised_by], count(item.paths, 'path')];
  if (item.sites.length > 0) parts.push(`at ${listed(item.sites)}`);
  if (item.times_raised > 1) parts.push(`raised ${item.times_raised} times`);
  if (item.limits_by != null) parts.push(`limits of rule “${item.limits_by}”`);
  if (item.severity_by != null) parts.push(`severity by rule “${item.severity_by}”`);
  if (item.quiet_by != null) parts.push(`in the quiet hours of rule “${item.quiet_by}”`);
  return parts.join('; ');
}
