import { useMutation } from '@tanstack/react-query';
import { Button } from 'antd';
import { useNavigate } from 'react-router';
import { startDiagnosis } from '../api/client';
import type { DiagnosisRequest } from '../api/client';
import { ErrorAlert } from './error-alert';

/** Starts a diagnosis on an agent and opens its page. */
export function DiagnoseButton({ wanted, label }: { wanted: DiagnosisRequest; label: string }) {
  const navigate = useNavigate();
  const asking = useMutation({
    mutationFn: () => startDiagnosis(wanted),
    onSuccess: (diagnosis) => void navigate(`/diagnoses/${diagnosis.id}`),
  });
  return (
    <>
      <Button onClick={() => asking.mutate()} loading={asking.isPending}>
        {label}
      </Button>
      {asking.error && <ErrorAlert error={asking.error} />}
    </>
  );
}
