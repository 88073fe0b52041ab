import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Input, Modal, Select, Skeleton, Space } from 'antd';
import { useState } from 'react';
import type { Rule, Rules } from '../../api/client';
import { fetchRules, saveRules, tryRules } from '../../api/client';
import { queries } from '../../api/queries';
import { ErrorAlert } from '../../components/error-alert';
import { Time } from '../../components/time';
import { count } from '../../format';
import { RuleForm } from './rule-form';
import { TrialView } from './trial';
import { limitWords, movedBy, quietWords, selectionWords, severityWords } from './words';

const DAYS = [1, 7, 30, 90].map((value) => ({ value, label: `last ${count(value, 'day')}` }));

/** A draft of the rules, and the version that it changes. */
interface Draft {
  of: number;
  rules: Rule[];
}

/** By which rules are alarms raised, and what would others have raised? */
export function RulesPage() {
  const session = useQuery(queries.session());
  const answer = useQuery(queries.rules());
  return (
    <>
      {answer.error && <ErrorAlert error={answer.error} />}
      {!answer.data && !answer.error && <Skeleton active />}
      {answer.data && (
        <Editor
          known={answer.data}
          mayTry={session.data?.role !== 'viewer'}
          maySave={session.data?.role === 'administrator'}
        />
      )}
    </>
  );
}

interface Props {
  known: Rules;
  mayTry: boolean;
  maySave: boolean;
}

function Editor({ known, mayTry, maySave }: Props) {
  const client = useQueryClient();
  const [draft, setDraft] = useState<Draft | null>(null);
  const [edited, setEdited] = useState<{ at: number | null } | null>(null);
  const [days, setDays] = useState(7);
  const [text, setText] = useState<string | null>(null);
  const rules = draft?.rules ?? known.rules;
  const change = (next: Rule[]) => {
    setDraft({ of: draft?.of ?? known.version, rules: next });
    trial.reset();
  };
  const trial = useMutation({ mutationFn: () => tryRules(rules, days) });
  const save = useMutation({
    mutationFn: (words: string) => saveRules(rules, draft?.of ?? known.version, words),
    onSuccess: (saved) => {
      client.setQueryData(queries.rules().queryKey, saved);
      setDraft(null);
      setText(null);
    },
    onSettled: () => client.invalidateQueries({ queryKey: ['rules'] }),
  });
  const restore = useMutation({
    mutationFn: fetchRules,
    onSuccess: (old) => change(old.rules),
  });
  return (
    <>
      <div className="actions">
        <h1 className="sentence" style={{ flex: 1, margin: 0 }}>
          {rules.length === 0 ? 'No rules' : count(rules.length, 'rule')}
          {draft === null ? '' : ', not saved'}
        </h1>
        {mayTry && <Button onClick={() => setEdited({ at: null })}>Add rule</Button>}
        {draft !== null && <Button onClick={() => setDraft(null)}>Discard changes</Button>}
        {draft !== null && maySave && (
          <Button type="primary" onClick={() => setText('')}>
            Save
          </Button>
        )}
      </div>
      {known.at != null && (
        <p className="said quiet">
          Version {known.version}, <Time at={known.at} />, {known.user}
          {known.text !== '' && `: ${known.text}`}
        </p>
      )}
      <p className="said">
        The first rule that applies to a path and has a value decides that value. Where no rule has
        one: {limitWords(known.configured)}.
      </p>
      {draft !== null && !maySave && (
        <p className="said">You can try these changes. An administrator can save them.</p>
      )}
      {rules.length === 0 && mayTry && (
        <p className="said">
          Add a rule to give sites, services, tags or owners limits, severities or quiet hours of
          their own.
        </p>
      )}
      {restore.error && <ErrorAlert error={restore.error} />}
      <ol className="plain-list" aria-label="Rules">
        {rules.map((rule, at) => (
          <RuleRow
            key={rule.name}
            rule={rule}
            at={at}
            actions={
              mayTry && (
                <Space>
                  <Button size="small" onClick={() => setEdited({ at })}>
                    Edit
                  </Button>
                  <Button
                    size="small"
                    disabled={at === 0}
                    onClick={() => change(movedBy(rules, at, -1))}
                  >
                    Up
                  </Button>
                  <Button
                    size="small"
                    disabled={at === rules.length - 1}
                    onClick={() => change(movedBy(rules, at, 1))}
                  >
                    Down
                  </Button>
                  <Button
                    size="small"
                    onClick={() => change(rules.filter((_, index) => index !== at))}
                  >
                    Remove
                  </Button>
                </Space>
              )
            }
          />
        ))}
      </ol>
      {mayTry && (
        <section aria-label="Trial">
          <div className="actions" style={{ marginTop: 16 }}>
            <h2 className="section" style={{ flex: '1 1 320px' }}>
              Which alarms would {draft === null ? 'these rules' : 'the changed rules'} have raised?
            </h2>
            <Select aria-label="Days" value={days} options={DAYS} onChange={setDays} />
            <Button loading={trial.isPending} onClick={() => trial.mutate()}>
              Try on stored findings
            </Button>
          </div>
          {trial.error && <ErrorAlert error={trial.error} />}
          {trial.data && <TrialView result={trial.data} />}
        </section>
      )}
      <Versions now={known.version} onRestore={mayTry ? restore.mutate : undefined} />
      {edited && (
        <RuleForm
          rule={edited.at === null ? null : (rules[edited.at] ?? null)}
          onCancel={() => setEdited(null)}
          onDone={(rule) => {
            const { at } = edited;
            change(at === null ? [...rules, rule] : rules.with(at, rule));
            setEdited(null);
          }}
        />
      )}
      <Modal
        open={text !== null}
        title={`Save as version ${known.version + 1}`}
        okText="Save"
        destroyOnHidden
        confirmLoading={save.isPending}
        onCancel={() => {
          setText(null);
          save.reset();
        }}
        onOk={() => save.mutate(text ?? '')}
      >
        {save.error && <ErrorAlert error={save.error} />}
        <p>
          The rules apply within a minute. An earlier version can be restored.
          {trial.data === undefined && ' They have not been tried on stored findings.'}
        </p>
        <Input.TextArea
          aria-label="What is changed, and why"
          placeholder="What is changed, and why"
          value={text ?? ''}
          onChange={(event) => setText(event.target.value)}
        />
      </Modal>
    </>
  );
}

function RuleRow({ rule, at, actions }: { rule: Rule; at: number; actions: React.ReactNode }) {
  const parts: [string, string | null][] = [
    ['Limits', limitWords(rule.limits)],
    ['Severity', severityWords(rule)],
    ['Quiet hours', quietWords(rule)],
  ];
  return (
    <li className="entry" data-rule={rule.name}>
      <div className="actions" style={{ margin: 0 }}>
        <p className="said" style={{ flex: 1 }}>
          <strong>
            {at + 1}. {rule.name}
          </strong>{' '}
          for {selectionWords(rule)}
        </p>
        {actions}
      </div>
      {parts.map(
        ([name, words]) =>
          words !== null && (
            <p key={name} className="said">
              {name}: {words}
            </p>
          ),
      )}
    </li>
  );
}

function Versions({ now, onRestore }: { now: number; onRestore?: (version: number) => void }) {
  const answer = useQuery(queries.ruleVersions());
  if (answer.error) return <ErrorAlert error={answer.error} />;
  if (!answer.data || answer.data.length === 0) return null;
  return (
    <section aria-label="Versions">
      <h2 className="section">Versions</h2>
      <ul className="plain-list">
        {answer.data.map((version) => (
          <li key={version.version} className="said">
            Version {version.version}, {version.at != null && <Time at={version.at} />},{' '}
            {version.user}:{' '}
            {version.text === '' ? count(version.rules.length, 'rule') : version.text}{' '}
            {onRestore && version.version !== now && (
              <Button size="small" onClick={() => onRestore(version.version)}>
                Use version {version.version}
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
