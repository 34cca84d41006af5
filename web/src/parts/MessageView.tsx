import type { ReactNode } from 'react';
import type { Schemas } from '../api/client';
import { Drawn } from './Drawn';

/** The shapes of a message's text as the server sends them. */
export interface Inline {
  kind: string;
  text?: string;
  to?: string;
  subs?: Inline[] | null;
}

export interface Block {
  kind: string;
  level?: number;
  ordered?: boolean;
  start?: number;
  inlines?: Inline[] | null;
  items?: (Block[] | null)[] | null;
  blocks?: Block[] | null;
  code?: string;
}

export interface Fact {
  label: string;
  value: string;
}

const inline = (n: Inline, i: number): ReactNode => {
  const subs = () => (n.subs ?? []).map(inline);
  switch (n.kind) {
    case 'strong':
      return <strong key={i}>{subs()}</strong>;
    case 'emph':
      return <em key={i}>{subs()}</em>;
    case 'code':
      return <code key={i}>{n.text}</code>;
    case 'break':
      return <br key={i} />;
    case 'mention':
      return (
        <b key={i} className="mention">
          @{n.text}
        </b>
      );
    case 'link':
      return (
        <a key={i} href={n.to} rel="noreferrer noopener" target="_blank">
          {subs()}
        </a>
      );
  }
  return <span key={i}>{n.text}</span>;
};

export function Blocks({ blocks }: { blocks: Block[] | null | undefined }) {
  return (blocks ?? []).map((b, i) => {
    const text = (b.inlines ?? []).map(inline);
    switch (b.kind) {
      case 'heading':
        return (
          <p key={i}>
            <strong>{text}</strong>
          </p>
        );
      case 'list': {
        const items = (b.items ?? []).map((item, j) => (
          <li key={j}>
            <Blocks blocks={item} />
          </li>
        ));
        return b.ordered ? (
          <ol key={i} start={b.start}>
            {items}
          </ol>
        ) : (
          <ul key={i}>{items}</ul>
        );
      }
      case 'quote':
        return (
          <blockquote key={i}>
            <Blocks blocks={b.blocks} />
          </blockquote>
        );
      case 'code':
        return <pre key={i}>{b.code}</pre>;
      case 'rule':
        return <hr key={i} />;
    }
    return <p key={i}>{text}</p>;
  });
}

type Pictured = Schemas['Picture'] | { from: string; text: string };

interface Shown {
  title: string;
  body: Block[] | null | undefined;
  facts: Fact[] | null | undefined;
  tone: string;
  link?: { text: string; to: string } | null;
  links?: { text: string; to: string }[] | null;
  sender?: { name?: string; picture?: string } | null;
  /** A picture: shown where its address is one of ours, else told in words. */
  picture?: Pictured | null;
  mentions?: { name: string }[] | null;
  attach?: { name: string; size?: number }[] | null;
  buttons?: { text: string; said?: string; done?: boolean }[] | null;
  /** The address of the page that says why it was told. */
  why?: string;
}

const toneWords: Record<string, string> = { good: 'Good news', warning: 'Look here', urgent: 'Urgent' };

/** A message as it stands in a channel. */
export function MessageView({
  doc,
  press,
  children,
}: {
  doc: Shown;
  /** What pressing a button does; where there is nothing, the buttons are only shown. */
  press?: (n: number) => void;
  children?: ReactNode;
}) {
  return (
    <article className={`post tone-${doc.tone}`}>
      {toneWords[doc.tone] && <span className="post-tone">{toneWords[doc.tone]}</span>}
      {doc.sender?.name && <p className="post-sender muted small">from {doc.sender.name}</p>}
      {(doc.mentions ?? []).length > 0 && (
        <p className="small">
          {doc.mentions!.map((m) => (
            <b key={m.name} className="mention">
              @{m.name}{' '}
            </b>
          ))}
        </p>
      )}
      {doc.title && <p className="post-title">{doc.title}</p>}
      <div className="post-body">
        <Blocks blocks={doc.body} />
      </div>
      {(doc.facts ?? []).length > 0 && (
        <dl className="post-facts">
          {doc.facts!.map((f, i) => (
            <div key={i}>
              <dt>{f.label}</dt>
              <dd>{f.value}</dd>
            </div>
          ))}
        </dl>
      )}
      {doc.picture && <PictureView picture={doc.picture} />}
      {[...(doc.link ? [doc.link] : []), ...(doc.links ?? [])].map((l) => (
        <a key={l.to + l.text} className="post-link" href={l.to} target="_blank" rel="noreferrer noopener">
          {l.text}
        </a>
      ))}
      {(doc.buttons ?? []).length > 0 && (
        <p className="post-buttons">
          {doc.buttons!.map((b, i) =>
            press && !b.done ? (
              <button key={i} type="button" className="post-button" onClick={() => press(i)}>
                {b.text}
              </button>
            ) : (
              <span key={i} className="post-button is-shown">
                {b.text}
                {b.said && <span className="small muted"> {b.said}</span>}
              </span>
            ),
          )}
        </p>
      )}
      {doc.why && (
        <a className="post-why small muted" href={doc.why} target="_blank" rel="noreferrer noopener">
          Why am I told?
        </a>
      )}
      {(doc.attach ?? []).map((f) => (
        <p key={f.name} className="post-file small">
          <span aria-hidden="true">▤</span> {f.name}
        </p>
      ))}
      {children}
    </article>
  );
}

/** A picture. One from elsewhere is not fetched by a reader's browser: its words and its address stand there. */
function PictureView({ picture }: { picture: Pictured }) {
  if ('chart' in picture || 'grid' in picture) return <Drawn picture={picture} />;
  if (picture.from.startsWith('/'))
    return <img className="post-picture" src={picture.from} alt={picture.text} />;
  return (
    <p className="post-picture-words small">
      <span aria-hidden="true">▨</span> {picture.text || 'a picture'}{' '}
      <span className="muted">
        {'held' in picture && picture.held ? 'fetched where the record came from' : picture.from}
      </span>
    </p>
  );
}
