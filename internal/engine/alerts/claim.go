package alerts

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// Claim has somebody look after an alert; account is who they are here, 0 where they are known by a link or by another side alone. The threads of its posts are told.
func (al *Alerts) Claim(ctx context.Context, arrival, workflow int64, by string, account int64, post *int64) (*Done, error) {
	var first string
	err := al.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		var err error
		if first, err = store.Claim(ctx, tx, workflow, arrival, by, account); err != nil || first != "" {
			return err
		}
		if err := store.AddAct(ctx, tx, store.Deed{Workflow: workflow, Arrival: arrival, Post: post, What: store.ActClaimed, By: by}); err != nil {
			return err
		}
		return notify.In(ctx, tx, notify.Message{Topic: notify.Steps, Seq: arrival})
	})
	if err != nil {
		return nil, err
	}
	if first != "" {
		a, err := al.Store.AlertOf(ctx, arrival, workflow)
		if first == by {
			return &Done{Words: "You look after it already" + since(a.ClaimedAt, al.Workspace) + ".", Again: true}, err
		}
		return &Done{Words: fmt.Sprintf("%s was faster, and looks after it%s.", first, since(a.ClaimedAt, al.Workspace)), Again: true}, err
	}
	if err := al.tellThreads(ctx, arrival, workflow, by+" looks after it", "claimed"); err != nil {
		return nil, err
	}
	return &Done{Words: by + " looks after it."}, nil
}

// LetGo takes a claim back. What was to end by it does not: its moment may have passed.
func (al *Alerts) LetGo(ctx context.Context, arrival, workflow int64, by string) error {
	return al.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		if err := store.Unclaim(ctx, tx, workflow, arrival); err != nil {
			return err
		}
		if err := store.AddAct(ctx, tx, store.Deed{Workflow: workflow, Arrival: arrival, What: store.ActLetGo, By: by}); err != nil {
			return err
		}
		return notify.In(ctx, tx, notify.Message{Topic: notify.Steps, Seq: arrival})
	})
}

// tellThreads tells something below each of an alert's posts, where the other side has threads.
func (al *Alerts) tellThreads(ctx context.Context, arrival, workflow int64, words, ref string) error {
	posts, err := al.Store.ThreadsOf(ctx, arrival, workflow)
	if err != nil || len(posts) == 0 {
		return err
	}
	rules, err := al.Sources.Rules(ctx)
	if err != nil {
		return err
	}
	doc := message.Saying(words)
	var out []decide.Post
	for _, p := range posts {
		connection, _, _ := strings.Cut(p.Destination, "/")
		if !slices.Contains(rules[connection].Can, string(connect.CanReply)) {
			continue
		}
		out = append(out, decide.Post{To: p.Destination, Message: ClaimedMessage, Doc: doc, Under: -1, UnderRef: strings.TrimPrefix(p.Key, fmt.Sprintf("w%d-", workflow)),
			Ref: fmt.Sprintf("%s-%s-%d-%d", outbox.Cause(arrival), ref, p.ID, al.Now().UnixMilli())}) // it may be taken once more
	}
	return al.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		return al.Outbox.Put(ctx, tx, outbox.Rows(workflow, arrival, al.Now().UTC(), out), true)
	})
}
