import { Segmented } from 'antd';
import { useState } from 'react';
import type { Schemas } from '../../api/client';
import { MessageView } from '../../parts/MessageView';

const words: Record<string, string> = {
  rich: 'Chat',
  plain: 'Plain text',
  mail: 'Mail',
  short: 'Text message',
};

/** The finished message as each kind of destination gets it, with what is lost there. */
export function Preview({ drawn }: { drawn: Schemas['MessageProof'] }) {
  const [dialect, setDialect] = useState('rich');
  const all = drawn.dialects ?? [];
  const r = all.find((d) => d.dialect === dialect);
  const doc = drawn.doc!;
  const view = <MessageView doc={{ ...doc, body: doc.body, facts: doc.facts }} />;
  return (
    <>
      <Segmented
        size="small"
        aria-label="The kind of destination it is shown for"
        value={dialect}
        options={all.map((d) => ({ value: d.dialect, label: words[d.dialect] ?? d.dialect }))}
        onChange={(d) => setDialect(d)}
      />
      {(!r || dialect === 'rich') && view}
      {r && dialect === 'mail' && (
        <div className="as-mail">
          <p>
            <span className="muted">Subject</span> <b>{r.subject}</b>
          </p>
          {view}
        </div>
      )}
      {r && (dialect === 'plain' || dialect === 'short') && (
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
    </>
  );
}
