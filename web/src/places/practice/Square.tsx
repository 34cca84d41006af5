import { Button } from 'antd';
import { useState } from 'react';
import { useMe } from '../../api/queries';
import { MessageView } from '../../parts/MessageView';
import { Trouble } from '../../parts/Trouble';
import { agoOf, fullOf } from '../../parts/times';
import { useChannels, useMember, usePostsIn, type SquarePost } from './usePractice';

/** The square: its channels and what stands in the chosen one, newest first. */
export function Square() {
  const channels = useChannels();
  const [name, setName] = useState('#tours');
  const posts = usePostsIn(name);
  const member = useMember();
  const me = useMe();
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
        {channel?.private && me.data?.role !== 'viewer' && (
          <Button size="small" type="link" onClick={() => member.mutate({ channel: name, isIn: !isIn })}>
            {isIn ? 'Put it out' : 'Let it in'}
          </Button>
        )}
      </p>
      <div className="posts" role="log" aria-label={`Posts in ${name}`} tabIndex={0}>
        {all
          .filter((p) => !p.under)
          .map((p) => (
            <Post key={p.id} post={p} replies={all.filter((r) => r.under === p.id).reverse()} />
          ))}
        {posts.data && all.length === 0 && <p className="muted">Nothing has been posted here yet.</p>}
      </div>
    </section>
  );
}

function Post({ post, replies }: { post: SquarePost; replies: SquarePost[] }) {
  return (
    <div className="squarepost">
      <p className="muted small" title={fullOf(post.at)}>
        {post.sender}, {agoOf(post.at)}
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
