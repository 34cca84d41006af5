package store_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// There is always an administrator left: a change that would leave none changes nothing.
func TestAnAdministratorIsLeft(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	ada, err := st.SetPerson(ctx, store.Person{Email: "Ada@x.example", Name: "Ada", Role: store.Administrator, PasswordHash: "h"})
	require.NoError(t, err)
	ben, err := st.SetPerson(ctx, store.Person{Email: "ben@x.example", Name: "Ben", Role: store.Editor, PasswordHash: "h"})
	require.NoError(t, err)
	team, err := st.AddTeam(ctx, "Tours")
	require.NoError(t, err)

	for name, c := range map[string]store.PersonChange{
		"another role": {Role: new(store.Viewer), Name: new("Not Ada")},
		"gone":         {Gone: new(true), Teams: &[]int64{team}},
	} {
		left, err := st.ChangePerson(ctx, ada, c, time.Now())
		require.NoError(t, err, name)
		assert.False(t, left, name)
	}
	people, err := st.People(ctx, ada)
	require.NoError(t, err)
	assert.Equal(t, "Ada", people[0].Name, "nothing of it was done")
	assert.Empty(t, people[0].Teams)

	left, err := st.ChangePerson(ctx, ben, store.PersonChange{Role: new(store.Administrator), Teams: &[]int64{team}}, time.Now())
	require.NoError(t, err)
	assert.True(t, left)
	left, err = st.ChangePerson(ctx, ada, store.PersonChange{Gone: new(true)}, time.Now())
	require.NoError(t, err)
	assert.True(t, left)
	p, err := st.SignsIn(ctx, "ADA@x.example")
	require.NoError(t, err)
	assert.Nil(t, p, "who is gone signs in no more")
	_, err = st.ChangePerson(ctx, 999, store.PersonChange{Name: new("X")}, time.Now())
	require.ErrorIs(t, err, gorm.ErrRecordNotFound)
	_, err = st.ChangePerson(ctx, ben, store.PersonChange{Teams: &[]int64{77}}, time.Now())
	assert.ErrorIs(t, err, gorm.ErrForeignKeyViolated, "there is no such team")
}

// An invitation is accepted once and keeps an older one, which ends with it; it brings back who was gone.
func TestInvitations(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	team, err := st.AddTeam(ctx, "Tours")
	require.NoError(t, err)
	for _, hash := range []string{"h-1", "h-2"} {
		require.NoError(t, st.Invite(ctx, &store.Invitation{TokenHash: hash, Email: "vera@x.example", Role: store.Editor, Team: &team, InvitedBy: "A", ExpiresAt: time.Now().Add(time.Hour)}))
	}
	require.NoError(t, st.Invite(ctx, &store.Invitation{TokenHash: "old", Email: "old@x.example", Role: store.Viewer, InvitedBy: "A", ExpiresAt: time.Now().Add(-time.Minute)}))
	open, err := st.Invitations(ctx)
	require.NoError(t, err)
	assert.Len(t, open, 2)
	for hash, there := range map[string]bool{"h-1": true, "h-2": true, "old": false, "made up": false} {
		i, err := st.Invitation(ctx, hash)
		require.NoError(t, err)
		assert.Equal(t, there, i != nil, hash)
	}
	p, err := st.Accept(ctx, "h-2", "", "Vera", "hash")
	require.NoError(t, err)
	require.NotNil(t, p)
	for _, hash := range []string{"h-2", "h-1"} {
		again, err := st.Accept(ctx, hash, "", "Somebody else", "hash")
		require.NoError(t, err)
		assert.Nil(t, again)
	}
	of, err := st.TeamsOf(ctx, p.ID)
	require.NoError(t, err)
	assert.Equal(t, []int64{team}, of)
	assert.ErrorIs(t, st.Withdraw(ctx, open[0].ID), gorm.ErrRecordNotFound, "one that was accepted is not taken back")
}

// A sign-in holds until it is ended, by whoever may, or its person is gone.
func TestSignIns(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	ada, err := st.SetPerson(ctx, store.Person{Email: "ada@x.example", Name: "Ada", Role: store.Administrator, PasswordHash: "h"})
	require.NoError(t, err)
	ben, err := st.SetPerson(ctx, store.Person{Email: "ben@x.example", Name: "Ben", Role: store.Editor, PasswordHash: "h"})
	require.NoError(t, err)
	var ids []int64
	for range 3 {
		id, err := st.AddSignIn(ctx, ben, "198.51.100.7", "a browser")
		require.NoError(t, err)
		ids = append(ids, id)
	}
	holds := func(id int64) bool {
		p, _, err := st.SignedIn(ctx, id)
		require.NoError(t, err)
		return p != nil
	}
	require.ErrorIs(t, st.EndSignIn(ctx, ids[0], ada, false), gorm.ErrRecordNotFound, "somebody else's")
	assert.True(t, holds(ids[0]))
	require.NoError(t, st.EndSignIn(ctx, ids[0], ada, true))
	assert.False(t, holds(ids[0]))
	require.NoError(t, st.EndSignIns(ctx, ben, ids[2]))
	assert.False(t, holds(ids[1]))
	assert.True(t, holds(ids[2]))
	list, err := st.SignIns(ctx, ben, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	assert.Len(t, list, 1)
	_, err = st.ChangePerson(ctx, ben, store.PersonChange{Gone: new(true)}, time.Now())
	require.NoError(t, err)
	assert.False(t, holds(ids[2]))
}

// Guesses count before they are looked at, by each key up to its limit, and a right one forgives the name from there.
func TestGuesses(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	keys := []store.Tries{{Key: "ada from here", Limit: 3}, {Key: "ada", Limit: 5}}
	for range 3 {
		wait, err := st.TryGuess(ctx, "ada", keys, time.Minute)
		require.NoError(t, err)
		assert.Zero(t, wait)
	}
	wait, err := st.TryGuess(ctx, "ada", keys, time.Minute)
	require.NoError(t, err)
	assert.Greater(t, wait, 30*time.Second)
	require.NoError(t, st.TakeBackGuess(ctx, keys, func(i int) bool { return i == 0 }))
	wait, err = st.TryGuess(ctx, "ada", keys, time.Minute)
	require.NoError(t, err)
	assert.Zero(t, wait, "from here it is forgiven; of the name one guess was taken back")
	// What counts stays, though the transaction it was counted in is undone.
	_ = st.Within(ctx, func(ctx context.Context) error {
		_, err := st.TryGuess(ctx, "ada", keys, time.Minute)
		require.NoError(t, err)
		return gorm.ErrInvalidTransaction
	})
	wait, err = st.TryGuess(ctx, "ada", keys, time.Minute)
	require.NoError(t, err)
	assert.Positive(t, wait)
	// After the span it begins anew.
	require.NoError(t, st.DB.Exec("UPDATE guesses SET since = now() - interval '2 minutes'").Error)
	wait, err = st.TryGuess(ctx, "ada", keys, time.Minute)
	require.NoError(t, err)
	assert.Zero(t, wait)
}

// An audit entry shows a thing as it was and is, without what is secret; a person's edits of one draft are one entry.
func TestAudit(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	ada, err := st.SetPerson(ctx, store.Person{Email: "ada@x.example", Name: "Ada", Role: store.Administrator, PasswordHash: "very-secret"})
	require.NoError(t, err)
	raw, err := st.Snapshot(ctx, store.AboutPerson, "1")
	require.NoError(t, err)
	assert.Contains(t, string(raw), "ada@x.example")
	assert.NotContains(t, string(raw), "very-secret")
	none, err := st.Snapshot(ctx, store.AboutPerson, "999")
	require.NoError(t, err)
	assert.Nil(t, none)
	for _, e := range []store.AuditEntry{
		{Did: "save-draft", What: "workflow", About: "7"}, {Did: "save-draft", What: "workflow", About: "7"},
		{Did: "switch-on", What: "workflow", About: "7"}, {Did: "save-draft", What: "workflow", About: "7"}, {Did: "invite", What: "invitation", About: "1"},
	} {
		e.Person, e.Name, e.After = &ada, "Ada", raw
		require.NoError(t, st.WriteAudit(ctx, e))
	}
	list, err := st.Audit(ctx, store.AuditFilter{Limit: 10})
	require.NoError(t, err)
	var did []string
	for _, r := range list {
		did = append(did, r.Did)
	}
	assert.Equal(t, []string{"invite", "save-draft", "switch-on", "save-draft"}, did)
	for _, c := range []struct {
		f store.AuditFilter
		n int
	}{
		{store.AuditFilter{What: "workflow", Limit: 10}, 3}, {store.AuditFilter{NotWhat: []string{"invitation"}, Limit: 10}, 3}, {store.AuditFilter{About: "1", Limit: 10}, 1},
		{store.AuditFilter{Person: ada, Limit: 2}, 2}, {store.AuditFilter{Person: 99, Limit: 10}, 0}, {store.AuditFilter{Before: list[1].ID, Limit: 10}, 2},
	} {
		got, err := st.Audit(ctx, c.f)
		require.NoError(t, err)
		assert.Len(t, got, c.n, "%+v", c.f)
	}
}
