package store

import "context"

// Two kinds of commits, and one rule.
//
// A commit over [Store.Async] does not wait for the disk. It is for work that is done again if a crash of the machine undoes
// it: what such a commit depends on and what depends on it are lost together, since the log is written in order.
//
// The rule: nothing is told to the outside, be it 202 to a sender or a post to a channel, before what it rests on is on the
// disk. [Store.Durable] waits for that, once for many: a commit that waits takes all earlier ones with it.

// Async opens more connections to the same database, whose commits do not wait for the disk.
func (s *Store) Async(ctx context.Context) (*Store, error) {
	cfg := s.Pool.Config().Copy()
	cfg.ConnConfig.RuntimeParams["synchronous_commit"] = "off"
	// The live loop looks single rows up by their keys. A partition that has just begun to fill is small by what the
	// planner last heard, and would be read whole, again and again, until somebody counts it anew.
	cfg.ConnConfig.RuntimeParams["enable_seqscan"] = "off"
	return open(ctx, cfg)
}

// Durable returns when everything that has been committed so far is on the disk, over whichever connection.
func (s *Store) Durable(ctx context.Context) error {
	_, err := s.Pool.Exec(ctx, "SELECT pg_logical_emit_message(true, 'dorfbote', '')")
	return err
}
