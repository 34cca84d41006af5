package kit

import (
	"context"
	"errors"
	"maps"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"
)

func SortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func NoSuchTeam(err error) error {
	if errors.Is(err, gorm.ErrForeignKeyViolated) {
		return huma.Error422UnprocessableEntity("there is no such team, or no such person")
	}
	return err
}

// MayEdit tells whether a person may change a workflow: it belongs to one of their teams, or to none.
func (k *Kit) MayEdit(ctx context.Context, who *Person, workflow int64) error {
	if who.Role == "administrator" || workflow == 0 {
		return nil
	}
	var row struct {
		Team  *int64
		Name  string
		Among bool
	}
	err := k.Store.DB.WithContext(ctx).Raw(`SELECT w.team, t.name, EXISTS (SELECT 1 FROM team_people m WHERE m.team = w.team AND m.person = ?) AS among
		FROM workflows w LEFT JOIN teams t ON t.id = w.team WHERE w.id = ?`, who.ID, workflow).Scan(&row).Error
	if err != nil || row.Team == nil || row.Among {
		return err
	}
	return huma.Error403Forbidden("this workflow belongs to the team " + row.Name + ", which you are not in; one of them or an administrator can change it")
}
