import type { ReactNode } from 'react';

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

interface Shown {
  title: string;
  body: Block[] | null | undefined;
  facts: Fact[] | null | undefined;
  tone: string;
  link?: { text: string; to: string } | null;
}

const toneWords: Record<string, string> = { good: 'Good news', warning: 'Look here', urgent: 'Urgent' };

/** A message as it stands in a channel. */
export function MessageView({ doc, children }: { doc: Shown; children?: ReactNode }) {
  return (
    <article className={`post tone-${doc.tone}`}>
      {toneWords[doc.tone] && <span className="post-tone">{toneWords[doc.tone]}</span>}
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
      {doc.link && (
        <a className="post-link" href={doc.link.to} target="_blank" rel="noreferrer noopener">
          {doc.link.text}
        </a>
      )}
      {children}
    </article>
  );
}
