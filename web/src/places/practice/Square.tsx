import { useMayEdit } from '../../api/act';
import { Button, Input } from 'antd';
import { useState } from 'react';
import { MessageView } from '../../parts/MessageView';
import { Trouble } from '../../parts/Trouble';
import { agoOf, fullOf } from '../../parts/times';
import { useChannels, useMember, usePostsIn, useReact, useSay, type SquarePost } from './usePractice';

/** The square: its channels and what stands in the chosen one, newest first. */
export function Square() {
  const channels = useChannels();
  const [name, setName] = useState('#tours');
  const posts = usePostsIn(name);
  const member = useMember();
  const mayEdit = useMayEdit();
  if (channels.error) return <Trouble error={channels.error} />;
  const channel = (channels.data ?? []).find((c) => c.name === name);
  const isIn = (channel?.members ?? []).includes('Dorfbote');
  const all = posts.data ?? [];
  return (
    <section aria-label="The square" className="square">
      <div className="place-head">
        <h1>The square</h1>
      </div>
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
function Say({ channel }: { channel: string }) {
  const say = useSay();
  const [text, setText] = useState('');
  return (
    <>
      <Input
        aria-label={`Say something in ${channel}`}
        placeholder="Say something, such as: @Dorfbote who is late?"
        value={text}
        maxLength={4000}
        onChange={(e) => setText(e.target.value)}
        onPressEnter={() => {
          if (text.trim()) say.mutate({ channel, text }, { onSuccess: () => setText('') });
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
}

function Post({ post, replies, mayReact }: PostProps) {
  const react = useReact();
  const counts = post.reactions ?? [];
  return (
    <div className="squarepost">
      <p className="muted small" title={fullOf(post.at)}>
        {post.author || post.sender}, {agoOf(post.at)}
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
      </p>
      <MessageView doc={post}>
        {replies.map((r) => (
          <div key={r.id} className="reply">
            <MessageView doc={r} />
          </div>
        ))}
      </MessageView>
    </div>
  );
}
