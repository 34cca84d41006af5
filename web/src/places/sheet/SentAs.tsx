import { useQuery } from '@tanstack/react-query';
import { Button, Select } from 'antd';
import { useContext, useState } from 'react';
import { api, answerOf } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { Trial } from './surroundings';

/** Exactly what would be sent for the chosen record, to the byte. It is asked for, since it may take a moment. */
export function SentAs({ message, tos }: { message: string; tos: string[] }) {
  const of = useContext(Trial);
  const [open, setOpen] = useState(false);
  const [chosen, setTo] = useState('');
  const to = tos.includes(chosen) ? chosen : (tos[0] ?? '');
  const sent = useQuery({
    queryKey: ['drafted', of?.sheet, of?.arrival, of?.record, message, to],
    enabled: open && of !== undefined && to !== '',
    staleTime: 5_000,
    retry: false,
    queryFn: () =>
      answerOf(
        api.POST('/api/drafted', {
          body: { sheet: of!.sheet, arrival: of!.arrival, record: of!.record, message, to },
        }),
      ),
  });
  if (!of || to === '') return null;
  return (
    <div className="sentas">
      <Button type="link" size="small" aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? 'Hide what is sent' : 'Exactly as it is sent'}
      </Button>
      {open && tos.length > 1 && (
        <Select
          size="small"
          aria-label="Whom it is sent to"
          popupMatchSelectWidth={false}
          value={to}
          options={tos.map((value) => ({ value, label: value }))}
          onChange={setTo}
        />
      )}
      {open && sent.error && <Trouble error={sent.error} />}
      {open && sent.data && (
        <>
          <p className="muted small preline">{sent.data.call}</p>
          <pre className="as-text sent-bytes" tabIndex={0} aria-label="What is sent">
            {sent.data.sent}
          </pre>
        </>
      )}
    </div>
  );
}
