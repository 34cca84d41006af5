package store

import "context"

// FirstSteps is how far an installation has come on the way to its first alert.
type FirstSteps struct {
	Read, Sent bool // something is connected that news comes from, or that posts go to
	Seen       bool // a record has come
	Made, On   bool // there is a workflow, one that is on
	Told       bool // a post was made
}

// FirstSteps tells how far this installation has come. reads and sends name the kinds of connection that news comes from, and
// that posts go to.
func (s *Store) FirstSteps(ctx context.Context, reads, sends []string) (f FirstSteps, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM connections WHERE kind = ANY ($1)), EXISTS (SELECT FROM connections WHERE kind = ANY ($2)),
		EXISTS (SELECT FROM records), EXISTS (SELECT FROM workflows), EXISTS (SELECT FROM workflows WHERE is_on), EXISTS (SELECT FROM posts)`, reads, sends).
		Scan(&f.Read, &f.Sent, &f.Seen, &f.Made, &f.On, &f.Told)
	return f, err
}
