import { useMutation } from '@tanstack/react-query';
import { Button } from 'antd';
import { useNavigate } from 'react-router';
import { lookOutward } from './api/client';
import type { WantedLook } from './api/client';
import { Trouble } from './trouble';

/** Has an agent look outward, and goes to where that can be followed. */
export function LookButton({ wanted, label }: { wanted: WantedLook; label: string }) {
  const navigate = useNavigate();
  const asking = useMutation({
    mutationFn: () => lookOutward(wanted),
    onSuccess: (look) => void navigate(`/outward/${look.id}`),
  });
  return (
    <>
      <Button onClick={() => asking.mutate()} loading={asking.isPending}>
        {label}
      </Button>
      {asking.error && <Trouble error={asking.error} />}
    </>
  );
}
