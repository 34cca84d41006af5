package decider

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/engine/workflows"
	"dorfbote/internal/store"
)

// Anew has a post that was not sent say what the version of its workflow that is on makes of the same arrival, so that a message that
// was mended can go in the place of the one that was refused. The post waits again. The error is a [*fault.Fault] where that cannot be.
func (de *Decider) Anew(ctx context.Context, id int64) (*store.Post, error) {
	p, err := de.Store.Post(ctx, id)
	if err != nil {
		return nil, err
	}
	cannot := func(said, do string) (*store.Post, error) {
		return nil, &fault.Fault{Tried: "making the post anew", Said: said, Do: do}
	}
	if p.Trial || !strings.HasPrefix(p.Key, outbox.KeyOf(p.Workflow, outbox.Cause(p.Arrival)+"-p")) {
		return cannot("it isn't one that the workflow makes of an arrival by itself", "send it as it is, or drop it")
	}
	live, err := de.Store.LiveNamed(ctx, []int64{p.Workflow})
	if err != nil {
		return nil, err
	}
	if len(live) == 0 {
		return cannot("its workflow is off", "switch the workflow on first, or send the post as it is")
	}
	plan, err := de.Workflows.PlanOf(ctx, live[0])
	if broken, ok := errors.AsType[*workflows.BrokenSheet](err); ok {
		return cannot(broken.Error(), "mend the sheet first")
	}
	if err != nil {
		return nil, err
	}
	rows, err := de.Store.ArrivalsBySeq(ctx, []int64{p.Arrival})
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return cannot("the arrival that it tells of isn't kept any more", "send the post as it is, or drop it")
	}
	a, err := rows[0].Core()
	if err != nil {
		return nil, err
	}
	sc := decide.NewScope(a)
	sc.Reach = de.Sources.Reach(ctx, sources.AskGet)
	made := decide.Decide(plan, sc)
	doc := anewOf(p, made.Posts)
	if doc == nil {
		why := "the version that is on doesn't tell " + p.Destination + " of this arrival"
		if made.Error != "" {
			why += fmt.Sprintf(" (%s: %s)", made.Where, made.Error)
		}
		return cannot(why, "drop the post, or send it as it is")
	}
	if p.Body, err = json.Marshal(doc.Doc); err != nil {
		return nil, err
	}
	p.Title, p.Cc, p.Bcc, p.Message = doc.Doc.Title, doc.Cc, doc.Bcc, doc.Message
	return p, de.Store.RemakePost(ctx, p)
}

// anewOf finds the post among those made now that goes where a post goes, of the same message if there are several.
func anewOf(p *store.Post, made []decide.Post) *decide.Post {
	var found *decide.Post
	for i := range made {
		name, _ := store.DestinationName(made[i].To)
		if name != p.Destination || (made[i].Under >= 0) != (p.Under != nil) {
			continue
		}
		if made[i].Message == p.Message {
			return &made[i]
		}
		if found == nil {
			found = &made[i]
		}
	}
	return found
}
