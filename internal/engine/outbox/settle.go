package outbox

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// settled is what became of trying to send a post, besides the post's own state.
type settled struct {
	tried     *store.Attempt // nil where no call was made
	notBefore *time.Time     // until when the destination is left alone
	reason    string         // why it is paused until a person has seen to it; "" lets it go on
	aside     string         // the post is set aside alone: why the destination is paused, should it be one too many
}

// asideMost is how many different posts in a row may be set aside, with no success between them, before it is not the posts any more.
const asideMost = 3

func asideWords(answer string) string {
	return fmt.Sprintf("%d different posts in a row were refused; the last answer was: %s", asideMost, answer)
}

// came is what settling found.
type came struct {
	Follows bool // something follows on the post
	Paused  bool // the destination is paused now
}

// settle writes a post's and its destination's state, and what was tried, in one statement. What a person has decided of
// the post meanwhile stays, unless it has been sent. The commit does not wait for the disk: where a crash of the machine undoes it, the post is sent
// again under the same key, as it would be had the machine crashed a moment earlier.
func (o *Outbox) settle(ctx context.Context, p *store.Post, d *store.Destination, done settled) (out came, err error) {
	if d.Failures++; p.State == store.Sent || p.State == store.Expired || p.Aside {
		d.Failures = 0
	}
	var quietBefore any
	if done.notBefore != nil {
		quietBefore = *done.notBefore
	}
	tried := done.tried
	if tried == nil {
		tried = &store.Attempt{}
	}
	others := ""
	if p.Message == decide.DigestMessage { // it tells of other alerts, too
		others = `f AS (
			UPDATE escalations SET due_at = now() + within_ms * interval '1 millisecond' WHERE @state = 'sent' AND workflow = @workflow AND @key = ANY (with_posts) AND due_at IS NULL RETURNING 1),`
	}
	err = o.Async.DB.WithContext(ctx).Raw(`WITH many AS (
			SELECT @set_aside <> '' AND cardinality(x.aside) >= @most AS full_up, x.aside FROM (SELECT CASE WHEN @state = 'sent' THEN '{}' WHEN @set_aside = '' OR @id = ANY (aside) THEN aside ELSE aside || CAST(@id AS bigint) END AS aside FROM destinations WHERE name = @name) x),
		p AS (
			UPDATE posts SET state = CASE WHEN state = 'waiting' OR @state = 'sent' THEN @state ELSE state END, attempts = @attempts, status = @status, answer = @answer, remote_id = @remote, link = @link, sent_at = CAST(@sent AS timestamptz), aside = @set_aside <> '' AND NOT (SELECT full_up FROM many)
			WHERE id = @id RETURNING 1),
		d AS (
			UPDATE destinations SET failures = @failures, not_before = CAST(@later AS timestamptz), paused = paused OR @reason <> '' OR many.full_up,
				reason = CASE WHEN @reason <> '' THEN @reason WHEN many.full_up THEN @set_aside ELSE reason END, aside = many.aside,
				held_by = CASE WHEN @reason <> '' OR many.full_up THEN '' ELSE held_by END, spacing_ms = @spacing, spaced_at = CAST(@spaced AS timestamptz)
			FROM many WHERE name = @name AND (failures <> @failures OR destinations.aside <> many.aside OR many.full_up OR not_before IS DISTINCT FROM CAST(@later AS timestamptz) OR @reason <> '' OR spacing_ms <> @spacing) RETURNING 1),
		o AS (
			UPDATE posts SET aside = false FROM many WHERE many.full_up AND posts.id = ANY (many.aside) AND posts.id <> @id AND state = 'refused' RETURNING 1),
		h AS (
			INSERT INTO hours (what, name, hour, n) SELECT 'posts', @name, date_trunc('hour', now()), 1 WHERE @state = 'sent'
			ON CONFLICT (what, name, hour) DO UPDATE SET n = hours.n + 1 RETURNING 1),
		c AS (
			UPDATE connections SET last_ok = now(), failing_since = NULL, last_error = '' WHERE @state = 'sent' AND id = split_part(@name, '/', 1)
				AND (last_ok IS NULL OR last_ok < now() - interval '1 minute' OR failing_since IS NOT NULL) RETURNING 1),
		e AS (
			UPDATE escalations SET due_at = now() + within_ms * interval '1 millisecond' WHERE workflow = @workflow AND arrival = @arrival AND due_at IS NULL AND NOT @trial
				AND (@state = 'sent' OR @state IN ('refused', 'given up', 'expired') AND NOT EXISTS (
					SELECT 1 FROM posts o WHERE o.workflow = @workflow AND o.arrival = @arrival AND o.id <> @id AND o.state IN ('waiting', 'held', 'sent'))) RETURNING 1),
		`+others+`
		a AS (
			UPDATE attempts SET open = false, took_ms = @took, status = @status, address = @address, sent = @body, answer = @raw WHERE id = @attempt RETURNING 1)
		SELECT pg_notify('`+notify.Channel+`', @event), (SELECT count(*) FROM p), (SELECT count(*) FROM d), (SELECT count(*) FROM a), (SELECT count(*) FROM h), (SELECT count(*) FROM c), (SELECT count(*) FROM e), (SELECT count(*) FROM o), (SELECT full_up FROM many) OR @reason <> '' AS paused,
			EXISTS (SELECT 1 FROM steps s WHERE s.arrival = @arrival AND s.workflow = @workflow AND s.state = 'waiting') AS follows`,
		sql.Named("arrival", p.Arrival), sql.Named("workflow", p.Workflow), sql.Named("state", p.State), sql.Named("attempts", p.Attempts), sql.Named("status", p.Status), sql.Named("answer", p.Answer),
		sql.Named("remote", p.RemoteID), sql.Named("link", p.Link), sql.Named("sent", p.SentAt), sql.Named("id", p.ID), sql.Named("failures", d.Failures),
		sql.Named("later", quietBefore), sql.Named("reason", done.reason), sql.Named("name", d.Name), sql.Named("event", notify.Message{Topic: notify.Posts, ID: p.ID}.Text()),
		sql.Named("spacing", d.SpacingMs), sql.Named("spaced", d.SpacedAt), sql.Named("trial", p.Trial), sql.Named("key", p.Key), sql.Named("set_aside", done.aside), sql.Named("most", asideMost), sql.Named("attempt", tried.ID), sql.Named("took", tried.TookMs),
		sql.Named("address", tried.Address), sql.Named("body", tried.Sent), sql.Named("raw", tried.Answer)).Scan(&out).Error
	return out, err
}
