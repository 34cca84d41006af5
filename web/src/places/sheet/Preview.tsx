import { Button, Segmented } from 'antd';
import { useState } from 'react';
import type { Schemas } from '../../api/client';
import { useConnections } from '../../api/queries';
import { MessageView } from '../../parts/MessageView';
import { dialectsOf } from './reach';
import { SentAs } from './SentAs';

const words: Record<string, string> = {
  rich: 'Chat',
  light: 'Chat room',
  plain: 'Plain text',
  mail: 'Mail',
  short: 'Text message',
};

interface Props {
  drawn: Schemas['MessageProof'];
  message: string;
  /** Where the message goes, as the sheet says it. */
  tos: string[];
  posts: Schemas['PlannedPost'][] | null | undefined;
}

/** The finished message as the kinds of destination that it goes to get it, with what is lost there. */
export function Preview({ drawn, message, tos, posts }: Props) {
  const told = dialectsOf(tos, useConnections().data?.items);
  const [others, setOthers] = useState(false);
  const [chosen, setDialect] = useState('');
  const every = drawn.dialects ?? [];
  const all = others || told.length === 0 ? every : every.filter((d) => told.includes(d.dialect));
  const dialect = all.some((d) => d.dialect === chosen) ? chosen : (all[0]?.dialect ?? 'rich');
  const r = all.find((d) => d.dialect === dialect);
  const doc = drawn.doc!;
  const view = <MessageView doc={doc} />;
  const to = [...new Set((posts ?? []).filter((p) => p.message === message).map((p) => p.to))];
  return (
    <>
      <div className="inline">
        {all.length > 1 ? (
          <Segmented
            size="small"
            aria-label="The kind of destination it is shown for"
            value={dialect}
            options={all.map((d) => ({ value: d.dialect, label: words[d.dialect] ?? d.dialect }))}
            onChange={(d) => setDialect(d)}
          />
        ) : (
          <span className="muted small">as {(words[dialect] ?? dialect).toLowerCase()}</span>
        )}
        {!others && all.length < every.length && (
          <Button type="link" size="small" onClick={() => setOthers(true)}>
            elsewhere
          </Button>
        )}
      </div>
      {(!r || dialect === 'rich') && view}
      {r && dialect === 'mail' && (
        <div className="as-mail">
          <p>
            <span className="muted">Subject</span> <b>{r.subject}</b>
          </p>
          {view}
        </div>
      )}
      {r && (dialect === 'light' || dialect === 'plain' || dialect === 'short') && (
        <pre className={`as-text as-${dialect}`}>{r.text}</pre>
      )}
      {r && dialect === 'short' && (
        <p className="muted small">
          {r.text.length} characters in {r.parts === 1 ? 'one part' : `${r.parts} parts`}
        </p>
      )}
      {(r?.lost ?? []).map((l) => (
        <p key={l} className="brass small">
          △ {l}
        </p>
      ))}
      <SentAs
        message={message}
        tos={to.length ? to : tos.filter((t) => !t.includes('${') && !t.startsWith('person/'))}
      />
    </>
  );
}
