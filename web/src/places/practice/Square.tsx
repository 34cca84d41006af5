import { useMayEdit } from '../../api/act';
import { useMe } from '../../api/queries';
import { App, Button, Input, Popconfirm } from 'antd';
import { useEffect, useRef, useState } from 'react';
import { useSearchParams } from 'react-router';
import { MessageView } from '../../parts/MessageView';
import { Trouble } from '../../parts/Trouble';
import { agoOf, fullOf } from '../../parts/times';
import {
  useChannels,
  useMember,
  usePost,
  usePostsIn,
  usePress,
  useReact,
  useSay,
  useSayAnew,
  type SquarePost,
} from './usePractice';

/** The square: its channels and what stands in the chosen one, newest first. */
export function Square() {
  const channels = useChannels();
  const [params] = useSearchParams();
  const linked = usePost(params.get('post'));
  const [chosen, setName] = useState('');
  const name = chosen || linked.data?.channel || '#tours';
  const posts = usePostsIn(name);
  const member = useMember();
  const mayEdit = useMayEdit();
  if (channels.error) return <Trouble error={channels.error} />;
  const channel = (channels.data ?? []).find((c) => c.name === name);
  const isIn = (channel?.members ?? []).includes('Dorfbote');
  const all = posts.data ?? [];
  return (
    <section aria-label="The square" className="square">
      <div className="channels" role="tablist" aria-label="Channels">
        {(channels.data ?? []).map((c) => (
          <button
            key={c.name}
            type="button"
            role="tab"
            aria-selected={c.name === name}
            className={c.name === name ? 'channel is-chosen' : 'channel'}
            onClick={() => setName(c.name)}
          >
            {c.name}
            {c.private && <span className="small"> private</span>}
          </button>
        ))}
      </div>
      <p className="muted small">
        {channel?.purpose}
        {channel?.private && (isIn ? '. Dorfbote is in.' : '. Dorfbote is not in.')}{' '}
        {channel?.private && mayEdit && (
          <Button size="small" type="link" onClick={() => member.mutate({ channel: name, isIn: !isIn })}>
            {isIn ? 'Put it out' : 'Let it in'}
          </Button>
        )}
      </p>
      {mayEdit && <Say channel={name} />}
      <div className="posts" role="log" aria-label={`Posts in ${name}`} tabIndex={0}>
        {all
          .filter((p) => !p.under)
          .map((p) => (
            <Post
              key={p.id}
              post={p}
              linked={linked.data?.id === p.id}
              mayReact={mayEdit}
              replies={all.filter((r) => r.under === p.id).reverse()}
            />
          ))}
        {posts.data && all.length === 0 && <p className="muted">Nothing has been posted here yet.</p>}
      </div>
    </section>
  );
}

/** A line for the person who is signed in, so that what is said in the square can be watched. */
function Say({ channel, under }: { channel: string; under?: number }) {
  const say = useSay();
  const [text, setText] = useState('');
  return (
    <>
      <Input
        aria-label={under ? `Answer in the thread of post ${under}` : `Say something in ${channel}`}
        placeholder={under ? 'Answer in the thread' : 'Say something, such as: @Dorfbote who is late?'}
        value={text}
        maxLength={4000}
        onChange={(e) => setText(e.target.value)}
        onPressEnter={() => {
          if (text.trim()) say.mutate({ channel, text, under }, { onSuccess: () => setText('') });
        }}
      />
      {say.error && <Trouble error={say.error} />}
    </>
  );
}

interface PostProps {
  post: SquarePost;
  replies: SquarePost[];
  mayReact: boolean;
  /** A link leads to this one. */
  linked: boolean;
}

/** A post as messages are drawn: its picture is one that was handed over to the square. */
const drawnOf = ({ called, picture, mentions, ...p }: SquarePost) => ({
  ...p,
  sender: called ? { name: called } : null,
  picture: picture ? { from: `/api/practice/square/pictures/${picture.id}`, text: picture.text } : null,
  mentions: (mentions ?? []).filter((m) => !p.text.includes(`@${m}`)).map((name) => ({ name })),
});

function Post({ post, replies, mayReact, linked }: PostProps) {
  const react = useReact();
  const { message } = App.useApp();
  const [answering, setAnswering] = useState(false);
  const [pressed, setPressed] = useState<number>();
  const at = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (linked) at.current?.scrollIntoView({ block: 'center' });
  }, [linked]);
  const copy = () => {
    const link = `${globalThis.location.origin}/practice?post=${post.id}`;
    navigator.clipboard.writeText(link).then(
      () => void message.success('The link to the post is copied.'),
      () => void message.info(link),
    );
  };
  const counts = post.reactions ?? [];
  const me = useMe();
  return (
    <div ref={at} className={linked ? 'squarepost is-linked' : 'squarepost'}>
      <p className="muted small" title={fullOf(post.at)}>
        {post.face && <img className="face" src={`/api/practice/square/pictures/${post.face}`} alt="" />}
        {post.author || post.called || post.sender}, {agoOf(post.at)}
        {counts.map((r) => (
          <span key={r.name}>
            {' '}
            · {r.name} {r.n}
          </span>
        ))}
        {mayReact && !counts.some((r) => r.name === 'done') && (
          <Button
            size="small"
            type="link"
            aria-label={`React to post ${post.id}: done`}
            onClick={() => react.mutate({ post: post.id, name: 'done' })}
          >
            done?
          </Button>
        )}
        <Button size="small" type="link" aria-label={`Copy the link to post ${post.id}`} onClick={copy}>
          link
        </Button>
        {mayReact && (
          <Button
            size="small"
            type="link"
            aria-label={`Answer post ${post.id}`}
            aria-expanded={answering}
            onClick={() => setAnswering(!answering)}
          >
            answer
          </Button>
        )}
        {mayReact && post.author !== undefined && post.author === me.data?.name && <Own post={post} />}
      </p>
      <MessageView doc={drawnOf(post)} press={mayReact ? (n) => setPressed(n) : undefined}>
        {pressed !== undefined && <Pressed post={post} button={pressed} over={() => setPressed(undefined)} />}
        {replies.map((r) => (
          <div key={r.id} className="reply">
            {r.author && (
              <p className="muted small">
                {r.author} {mayReact && r.author === me.data?.name && <Own post={r} />}
              </p>
            )}
            <MessageView doc={drawnOf(r)} />
          </div>
        ))}
        {answering && <Say channel={post.channel} under={post.id} />}
      </MessageView>
    </div>
  );
}

/** What one can do with one's own words: say them anew, or take them away. */
function Own({ post }: { post: SquarePost }) {
  const anew = useSayAnew();
  const [text, setText] = useState<string>();
  return (
    <>
      <Button
        size="small"
        type="link"
        aria-label={`Change what post ${post.id} says`}
        onClick={() => setText(text === undefined ? post.text : undefined)}
      >
        change
      </Button>
      <Popconfirm
        title="Take it away for everybody?"
        okText="Take it away"
        cancelText="Keep it"
        onConfirm={() => anew.mutate({ post: post.id })}
      >
        <Button size="small" type="link" aria-label={`Take post ${post.id} away`}>
          take away
        </Button>
      </Popconfirm>
      {text !== undefined && (
        <Input
          autoFocus
          aria-label={`New text of post ${post.id}`}
          value={text}
          maxLength={4000}
          onChange={(e) => setText(e.target.value)}
          onPressEnter={() =>
            text.trim() && anew.mutate({ post: post.id, text }, { onSuccess: () => setText(undefined) })
          }
        />
      )}
      {anew.error && <Trouble error={anew.error} />}
    </>
  );
}

/** A button that was pressed: a comment where it takes one, and what its sender says. */
function Pressed({ post, button, over }: { post: SquarePost; button: number; over: () => void }) {
  const press = usePress();
  const { message } = App.useApp();
  const [comment, setComment] = useState('');
  const b = post.buttons?.[button];
  const wants = b?.comment === 'optional' || b?.comment === 'required';
  const send = () =>
    press.mutate(
      { post: post.id, button, comment },
      {
        onSuccess: (a) => {
          void message.info(a.said);
          if (a.done) over();
        },
      },
    );
  const sent = useRef(false);
  useEffect(() => {
    if (wants || sent.current) return;
    sent.current = true;
    send();
  });
  if (!b) return null;
  return (
    <div className="inline">
      {wants && (
        <>
          <Input
            className="side-select"
            autoFocus
            aria-label={`Comment on ${b.text}`}
            placeholder={b.comment === 'required' ? 'Say why' : 'Say why, if you like'}
            value={comment}
            maxLength={2000}
            onChange={(e) => setComment(e.target.value)}
            onPressEnter={send}
          />
          <Button size="small" type="primary" loading={press.isPending} onClick={send}>
            {b.text}
          </Button>
          <Button size="small" onClick={over}>
            Not now
          </Button>
        </>
      )}
      {press.error && <Trouble error={press.error} />}
    </div>
  );
}
