import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import type { Check, PathDetail } from '../../api/client';
import { queries } from '../../api/queries';
import { Distance } from '../../components/found';
import type { FoundWord } from '../../components/found';
import { failure, ms, ofAll, stepName } from '../../format';
import { DiagnoseButton } from '../../components/diagnose-button';
import { nearness } from '../fleet/nearness';

function networkOf(path: PathDetail): { found: FoundWord; words: string[] } {
  const latest = path.latest;
  if (!latest) return { found: 'unknown', words: ['not measured yet'] };
  const answeredOf = `${ofAll(latest.end_sent - latest.end_lost, latest.end_sent)} answered`;
  const delay = `median ${ms(latest.end_delay_us)}, usually ${ms(latest.usual_end_delay_us)}`;
  if (latest.finding)
    return { found: 'broken', words: [latest.finding.message.headline, answeredOf] };
  const lossy = latest.end_sent > 0 && latest.end_lost / latest.end_sent >= 0.05;
  return { found: lossy ? 'noted' : 'clean', words: [answeredOf, delay] };
}

function answered(checks: Check[]): FoundWord {
  if (checks.length === 0) return 'unknown';
  return checks.some((check) => check.state === 'broken') ? 'broken' : 'clean';
}

function steps(check: Check): string {
  return check.phases.map((phase) => `${stepName(phase.step)} ${ms(phase.took_us)}`).join(', ');
}

/** From the agent's own machine to the service, in the order of distance of staircase and weave. */
export function FromMachineToService({ path }: { path: PathDetail }) {
  const { data: hostFacts } = useQuery(queries.hostFacts(path.agent));
  const { data: checks } = useQuery(queries.checks(path.id));
  const network = networkOf(path);
  const near = hostFacts?.at != null ? nearness(hostFacts, []) : [];
  const all = checks ?? [];
  return (
    <section aria-labelledby="distance">
      <div style={{ display: 'flex', gap: 16, alignItems: 'baseline' }}>
        <h2 className="section" id="distance" style={{ flex: 1 }}>
          From the machine to the service
        </h2>
        <DiagnoseButton
          wanted={{ site: path.site, target: path.target }}
          label="Run diagnosis from this machine"
        />
      </div>
      <Distance
        label="Places in order of distance"
        places={[
          ...near.map(({ name, found, lines }) => ({
            name,
            found,
            words: lines.map((line) => <p key={line}>{line}</p>),
          })),
          {
            name: 'Network',
            found: network.found,
            words: network.words.map((it) => <p key={it}>{it}</p>),
          },
          {
            name: 'Service',
            found: answered(all),
            words:
              all.length === 0 ? (
                <p>no checks of this address</p>
              ) : (
                all.map((check) => (
                  <p key={check.id}>
                    <Link to={`/checks/${check.id}`}>
                      {check.kind}
                      {check.host != null && ` ${check.host}`}
                    </Link>
                    : {failure(check) ?? steps(check)}
                  </p>
                ))
              ),
          },
        ]}
      />
    </section>
  );
}
