package outbox

import (
	"context"
	"fmt"

	"golang.org/x/sync/semaphore"
)

// atHand is how many bytes of foreign files and pictures a process holds at one time for posts that are about to go; who finds no room in
// time goes without, as a link. ahead is how many posts of one destination are made ready before their turn.
const (
	atHand = 256 << 20
	ahead  = 4
)

// claim is what one post has of that room.
type claim struct {
	room *semaphore.Weighted // nil where nothing is counted
	held int64
}

// fetch runs what fetches at most so many bytes once there is room for them; what it says that it brought is held until free.
func (c *claim) fetch(ctx context.Context, most int64, fetch func() (brought int, err error)) error {
	if c.room == nil {
		_, err := fetch()
		return err
	}
	if err := c.room.Acquire(ctx, most); err != nil {
		return fmt.Errorf("too many files are being sent at the moment: %w", err)
	}
	n, err := fetch()
	kept := min(int64(n), most)
	c.room.Release(most - kept)
	c.held += kept
	return err
}

// free gives the room back once the post has gone, or does not go now.
func (c *claim) free() {
	if c.room != nil && c.held > 0 {
		c.room.Release(c.held)
		c.held = 0
	}
}
