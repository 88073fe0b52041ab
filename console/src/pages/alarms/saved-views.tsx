import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Input, Modal, Select } from 'antd';
import type { InputRef } from 'antd';
import { useEffect, useRef, useState } from 'react';
import { useSearchParams } from 'react-router';
import { removeView, saveView } from '../../api/client';
import { queries } from '../../api/queries';
import { ErrorAlert } from '../../components/error-alert';
import { isWriting } from '../../components/keys';
import { leadsTo, savedQuery } from './filter';

/** Views of alarms that the user has named, to choose from, and a dialog that saves this one. */
export function SavedViews() {
  const [search, setSearch] = useSearchParams();
  const client = useQueryClient();
  const views = useQuery(queries.views()).data ?? [];
  const chosen = search.get('view');
  const [name, setName] = useState<string | null>(null);
  const settled = () => client.invalidateQueries({ queryKey: ['alarm-views'] });
  const save = useMutation({
    mutationFn: (as: string) => saveView({ name: as, query: savedQuery(search) }),
    onSuccess: (saved) => {
      setName(null);
      setSearch(leadsTo(saved), { replace: true });
    },
    onSettled: settled,
  });
  const remove = useMutation({
    mutationFn: removeView,
    onSuccess: (_, removed) => {
      setName(null);
      if (chosen === removed) setSearch(savedQuery(search), { replace: true });
    },
    onSettled: settled,
  });
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (isWriting(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key !== 'v' || document.querySelector('[role=dialog]')) return;
      event.preventDefault();
      setName(chosen ?? '');
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, [chosen]);
  const field = useRef<InputRef>(null);
  const as = (name ?? '').trim();
  const isKnown = views.some((view) => view.name === as);
  return (
    <>
      <Select
        aria-label="Saved view"
        style={{ width: 128 }}
        placeholder="Saved views"
        value={chosen}
        notFoundContent="No saved view"
        options={views.map((view) => ({ value: view.name, label: view.name }))}
        onChange={(next) => {
          const view = views.find((one) => one.name === next);
          if (view) setSearch(leadsTo(view), { replace: true });
        }}
      />
      <Button onClick={() => setName(chosen ?? '')}>Save view</Button>
      <Modal
        open={name !== null}
        title="Save this view"
        destroyOnHidden
        onCancel={() => setName(null)}
        afterOpenChange={(open) => open && field.current?.focus()}
        footer={[
          isKnown && (
            <Button key="remove" loading={remove.isPending} onClick={() => remove.mutate(as)}>
              Remove
            </Button>
          ),
          <Button key="cancel" onClick={() => setName(null)}>
            Cancel
          </Button>,
          <Button
            key="save"
            type="primary"
            disabled={as === ''}
            loading={save.isPending}
            onClick={() => save.mutate(as)}
          >
            {isKnown ? 'Replace' : 'Save'}
          </Button>,
        ]}
      >
        {save.error && <ErrorAlert error={save.error} />}
        {remove.error && <ErrorAlert error={remove.error} />}
        <p>Only you see it. Its address leads other users to the same filter.</p>
        <Input
          ref={field}
          aria-label="Name of the view"
          maxLength={40}
          value={name ?? ''}
          onChange={(event) => setName(event.target.value)}
          onPressEnter={() => {
            if (as !== '') save.mutate(as);
          }}
        />
      </Modal>
    </>
  );
}
