package kit

import (
	"context"
	"errors"

	"dorfbote/internal/store"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"
)

// NoSuchTeam says in words that a team or person that was named is not there.
func NoSuchTeam(err error) error {
	if errors.Is(err, gorm.ErrForeignKeyViolated) {
		return huma.Error422UnprocessableEntity("there is no such team, or no such person")
	}
	return err
}

// MayEdit tells whether a person may change a workflow: it belongs to one of their teams, or to none.
func (k *Kit) MayEdit(ctx context.Context, who *Person, workflow int64) error {
	if who.Role == store.Administrator || workflow == 0 {
		return nil
	}
	team, among, err := k.Store.Belongs(ctx, workflow, who.ID)
	if err != nil || team == "" || among {
		return err
	}
	return huma.Error403Forbidden("this workflow belongs to the team " + team + ", which you are not in; one of them or an administrator can change it")
}
