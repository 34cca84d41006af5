package sources

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// How often chats are asked by themselves which of their channels would take a post, and after how long again where one
// did not answer.
const (
	askChannelsEvery = 24 * time.Hour
	askChannelsAgain = time.Hour
	askingChannels   = 8 * time.Second
)

// AskChannels asks a chat for its channels: new ones become destinations, and of each is noted whether it would take a post.
func (src *Sources) AskChannels(ctx context.Context, connection string) error {
	var c store.Connection
	if err := src.Store.DB.WithContext(ctx).First(&c, "id = ?", connection).Error; err != nil {
		return err
	}
	return src.askChat(ctx, &c)
}

// Listed names the kinds of connections that list the places that posts can go to.
func Listed() []string {
	return kinds.That(func(k *connect.Kind) bool { return k.Sends != nil && k.Sends.Listed() })
}

func (src *Sources) askChat(ctx context.Context, c *store.Connection) error {
	db := src.Store.DB.WithContext(ctx)
	list, err := src.channels(ctx, c)
	if err != nil {
		return err
	}
	names := []string{""}
	for _, ch := range list {
		name := c.ID + "/" + ch.Kind
		names = append(names, name)
		err := db.Exec(`INSERT INTO destinations (name, connection, title, private, shut, asked_at) VALUES (?, ?, ?, ?, ?, now())
			ON CONFLICT (name) DO UPDATE SET private = excluded.private, shut = excluded.shut, asked_at = now()`, name, c.ID, ch.Title, ch.Private, ch.Shut).Error
		if err != nil {
			return err
		}
	}
	err = db.Exec("UPDATE destinations SET shut = title || ' is not among the channels of ' || ?::text || ' any more; choose another', asked_at = now() WHERE connection = ? AND name NOT IN ?", c.Title, c.ID, names).Error
	src.Tell(ctx, notify.Message{Topic: notify.Destinations})
	return err
}

func (src *Sources) channels(ctx context.Context, c *store.Connection) ([]connect.Choice, error) {
	conn, err := src.OpenConn(c)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	ctx, cancel := context.WithTimeout(ctx, askingChannels)
	defer cancel()
	return conn.Browse(ctx)
}

// AskDestinations asks the chats of some destinations. One that does not answer is passed over: what was known of its
// channels holds.
func (src *Sources) AskDestinations(ctx context.Context, names []string) error {
	ids := make([]string, 0, len(names))
	for _, n := range names {
		if connection, _, ok := strings.Cut(n, "/"); ok {
			ids = append(ids, connection)
		}
	}
	var chats []store.Connection
	if err := src.Store.DB.WithContext(ctx).Where("id IN ? AND kind IN ?", ids, Listed()).Order("id").Find(&chats).Error; err != nil {
		return err
	}
	for i := range chats {
		if err := src.askChat(ctx, &chats[i]); err != nil {
			if ctx.Err() != nil {
				return err
			}
			src.Log.Info("asking for a chat's channels failed", "connection", chats[i].ID, "error", err)
		}
	}
	return nil
}

// AskChannelsDaily asks the chat that was not asked for longest, if that is a day ago, and tells of channels that
// workflows post to and that would refuse it.
func (src *Sources) AskChannelsDaily(ctx context.Context) error {
	db := src.Store.DB.WithContext(ctx)
	var connection string
	err := db.Raw(`SELECT c.id FROM connections c JOIN destinations d ON d.connection = c.id WHERE c.kind IN ? AND NOT c.paused
		GROUP BY c.id HAVING min(d.asked_at) < now() - ? * interval '1 second' ORDER BY min(d.asked_at) LIMIT 1`, Listed(), askChannelsEvery.Seconds()).Scan(&connection).Error
	if err != nil || connection == "" {
		return err
	}
	if err := src.AskChannels(ctx, connection); err != nil {
		src.Log.Info("asking for a chat's channels failed", "connection", connection, "error", err)
		return db.Exec("UPDATE destinations SET asked_at = now() - ? * interval '1 second' WHERE connection = ?", (askChannelsEvery - askChannelsAgain).Seconds(), connection).Error
	}
	return src.tellOfShut(ctx, connection)
}

const wouldRefuse = "would refuse a post"

// tellOfShut tells the owners of workflows that are on of channels that would refuse their posts.
func (src *Sources) tellOfShut(ctx context.Context, connection string) error {
	db := src.Store.DB.WithContext(ctx)
	var places []store.Destination
	if err := db.Find(&places, "connection = ?", connection).Error; err != nil {
		return err
	}
	var on []struct {
		Name  string
		Owner *int64
		Sheet string
	}
	if err := db.Raw("SELECT w.name, w.owner, v.sheet FROM workflows w JOIN workflow_versions v ON v.workflow = w.id AND v.version = w.version WHERE w.is_on").Scan(&on).Error; err != nil {
		return err
	}
	users := map[string][]string{}
	owner := map[string]*int64{}
	for _, w := range on {
		sh, _ := sheet.Read([]byte(w.Sheet))
		if sh == nil {
			continue
		}
		_, to := sh.Names()
		for _, t := range to {
			if !slices.Contains(users[t.S], w.Name) {
				users[t.S], owner[t.S] = append(users[t.S], w.Name), w.Owner
			}
		}
	}
	for _, d := range places {
		if d.Shut == "" || len(users[d.Name]) == 0 {
			src.Done(ctx, d.Name, wouldRefuse)
			continue
		}
		src.Notice(ctx, store.Notice{What: wouldRefuse, Words: fmt.Sprintf("%s It is told by %s.", fault.Sentence(d.Shut), strings.Join(users[d.Name], ", ")), Go: "/connections/" + connection, About: d.Name, Owner: owner[d.Name]})
	}
	return nil
}

// Halted says why what is sent to a destination waits for now, and what to do; "" where it goes.
func Halted(d *store.Destination, connectionPaused bool) string {
	switch {
	case connectionPaused:
		return d.Connection + " is paused; what is told waits until somebody lets it go on, under Connections"
	case d.Paused && d.HeldBy != "":
		return d.Title + " is paused by " + d.HeldBy + "; what is told waits until somebody lets it go on, in the outbox"
	case d.Paused:
		return d.Title + " is paused because it refused a post (" + d.Reason + "); what is told waits until somebody lets it go on, in the outbox"
	}
	return ""
}

// Unwritable says why a source's records cannot be added to, or changed, and what to do.
func (src *Sources) Unwritable(ctx context.Context, source string, change bool) string {
	db := src.Store.DB.WithContext(ctx)
	var k store.Source
	var c store.Connection
	if db.Limit(1).Find(&k, "name = ?", source).RowsAffected == 0 || db.Limit(1).Find(&c, "id = ?", k.Connection).RowsAffected == 0 {
		return ""
	}
	kind := kinds.Named(c.Kind)
	if kind == nil || kind.Write == nil {
		return "the records of " + source + " can only be read; choose another source"
	}
	if kind.Writable == nil {
		return ""
	}
	config, err := src.Config(&c)
	if err == nil {
		err = kind.Writable(config, SourceOf(&k), change)
	}
	if err != nil {
		return "the records of " + source + " cannot be written: " + fault.Plainly(err)
	}
	return ""
}
