package outbox

import (
	"context"
	"fmt"
	"time"

	"dorfbote/internal/store"
)

// posting keeps to a destination's pace while it is drained: the rate that a person has set, and what the other side
// was seen to bear.
type posting struct {
	next  time.Time // the next post goes no earlier
	since time.Time // when this burst began
	n     int       // how many it has taken since
	most  int       // posts a minute, as the connection's settings say; 0 says nothing
}

// How a learnt pace is forgotten: after so long it is halved each time, until it is gone.
const (
	spacingHolds = 10 * time.Minute
	spacingLeast = 5 * time.Millisecond
	spacingMost  = time.Hour
)

func newPosting(d *store.Destination, now time.Time) *posting {
	if d.SpacedAt != nil && d.SpacingMs > 0 {
		if halvings := int(now.Sub(*d.SpacedAt) / spacingHolds); halvings > 0 {
			if d.SpacingMs >>= min(halvings, 31); time.Duration(d.SpacingMs)*time.Millisecond < spacingLeast {
				d.SpacingMs = 0
			}
			d.SpacedAt = &now
		}
	}
	p := &posting{}
	if d.NotBefore != nil {
		p.next = *d.NotBefore
	}
	return p
}

func (p *posting) spacing(d *store.Destination) time.Duration {
	s := time.Duration(d.SpacingMs) * time.Millisecond
	for _, perMinute := range []int{d.PerMinute, p.most} {
		if perMinute > 0 {
			s = max(s, time.Minute/time.Duration(perMinute))
		}
	}
	return s
}

// wait is for how long the next post must wait.
func (p *posting) wait(now time.Time) time.Duration {
	if p.since.IsZero() {
		p.since = now
	}
	return p.next.Sub(now)
}

// sent notes a post that was taken, and gives the time of the next where posts are spaced.
func (p *posting) sent(d *store.Destination, now time.Time) *time.Time {
	p.n++
	gap := p.spacing(d)
	if gap == 0 {
		return nil
	}
	p.next = now.Add(gap)
	next := p.next
	return &next
}

// refused learns from being asked to wait: what was taken since this burst began, over the time until it may go on, is
// what the other side bears.
func (p *posting) refused(d *store.Destination, now time.Time, wait time.Duration) {
	bears := min(max((now.Sub(p.since)+wait)/time.Duration(p.n+1), spacingLeast), spacingMost)
	if learnt := time.Duration(d.SpacingMs) * time.Millisecond; learnt > 0 && p.n < 3 {
		bears = max(bears, learnt+learnt/4) // it was too fast still, if only a little
	}
	d.SpacingMs, d.SpacedAt = int(bears.Milliseconds()), &now
	p.n, p.since = 0, time.Time{}
}

// tellOwner has whoever a workflow belongs to told that its post was refused, in the words of the other side.
func (o *Outbox) tellOwner(ctx context.Context, p *store.Post, d *store.Destination) error {
	var w store.Workflow
	if err := o.Store.DB.WithContext(ctx).First(&w, p.Workflow).Error; err != nil {
		return err
	}
	words := fmt.Sprintf("%s could not tell %s about %q. It answered: %s", w.Name, d.Name, p.Title, p.Answer)
	o.Notice(ctx, store.Notice{What: "refused a post", Words: words, Go: fmt.Sprintf("/outbox?post=%d", p.ID), About: d.Name, Owner: w.Owner})
	return nil
}
