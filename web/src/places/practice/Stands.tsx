import { Segmented } from 'antd';
import { useState } from 'react';
import { Trouble } from '../../parts/Trouble';
import { agoOf, fullOf } from '../../parts/times';
import { Square } from './Square';
import { useLetters, useTexts } from './usePractice';

const stands = ['The square', 'Mailbox', 'Phone'] as const;

/** Where what is told arrives: the square, the stand-in mailbox and the stand-in phone. */
export function Stands() {
  const [stand, setStand] = useState<(typeof stands)[number]>('The square');
  return (
    <div>
      <div className="place-head">
        <h1>{stand}</h1>
        <Segmented
          size="small"
          aria-label="Where it arrives"
          value={stand}
          options={[...stands]}
          onChange={setStand}
        />
      </div>
      {stand === 'The square' && <Square />}
      {stand === 'Mailbox' && <Mailbox />}
      {stand === 'Phone' && <Phone />}
    </div>
  );
}

/** What came to the stand-in mailbox, whatever the address. */
function Mailbox() {
  const letters = useLetters();
  if (letters.error) return <Trouble error={letters.error} />;
  return (
    <section aria-label="Mailbox" className="posts" tabIndex={0}>
      <p className="muted small">Every mail to any address comes here; only nobody@… is not known.</p>
      {(letters.data ?? []).map((l) => (
        <article key={l.id} className="post letter">
          <p className="muted small" title={fullOf(l.at)}>
            from {l.called || l.sender} to {l.to.join(', ')}, {agoOf(l.at)}
            {l.under && ' · an answer in its thread'}
          </p>
          <p className="post-title">{l.subject}</p>
          <div className="post-body preline">{l.text}</div>
          {l.files.map((f) => (
            <p key={f} className="post-file small">
              <span aria-hidden="true">▤</span> {f}
            </p>
          ))}
          <p className="small">
            <a href={`/api/practice/letters/${l.id}/raw`} target="_blank" rel="noreferrer">
              as it came
            </a>
          </p>
        </article>
      ))}
      {letters.data?.length === 0 && <p className="muted">No mail has come yet.</p>}
    </section>
  );
}

/** What came to the stand-in phone. */
function Phone() {
  const texts = useTexts();
  if (texts.error) return <Trouble error={texts.error} />;
  return (
    <section aria-label="Phone" className="posts" tabIndex={0}>
      <p className="muted small">
        Every message to any number comes here; numbers that end in 99 cannot be reached.
      </p>
      {(texts.data ?? []).map((t) => (
        <article key={t.id} className="post textmessage">
          <p className="muted small" title={fullOf(t.at)}>
            {t.sender || 'a number'} to {t.number}, {agoOf(t.at)},{' '}
            {t.parts === 1 ? 'one part' : `${t.parts} parts`}
          </p>
          <p className="preline">{t.text}</p>
          <p
            className={
              t.state === 'failed' ? 'bad small' : t.state === 'delivered' ? 'good small' : 'muted small'
            }
          >
            {t.state === 'failed' ? '✕ ' : t.state === 'delivered' ? '✓ ' : '→ '}
            {t.state}
            {t.words && `: ${t.words}`}
          </p>
        </article>
      ))}
      {texts.data?.length === 0 && <p className="muted">No message has come yet.</p>}
    </section>
  );
}
