package workflows

import (
	"context"
	"slices"

	"dorfbote/internal/core/place"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

// Known gives everything a sheet is checked against.
func (ws *Workflows) Known(ctx context.Context) (sheet.Known, error) {
	names, err := ws.Store.SourceNames(ctx, "")
	if err != nil {
		return sheet.Known{}, err
	}
	db := ws.Store.DB.WithContext(ctx)
	var places []store.Destination
	if err := db.Where("title <> '' AND (paused OR shut <> '' OR connection IN (SELECT id FROM connections WHERE kind IN ?))", sources.Listed()).Order("name").Find(&places).Error; err != nil {
		return sheet.Known{}, err
	}
	rules, err := ws.Sources.Rules(ctx)
	if err != nil {
		return sheet.Known{}, err
	}
	book, err := ws.Sources.People(ctx)
	if err != nil {
		return sheet.Known{}, err
	}
	connections := value.SortedKeys(rules)
	var paused []string
	if err := db.Model(&store.Connection{}).Where("paused").Pluck("id", &paused).Error; err != nil {
		return sheet.Known{}, err
	}
	destinations, shutBy, halted := make([]string, len(places)), map[string]string{}, map[string]string{}
	for i := range places {
		d := &places[i]
		destinations[i], shutBy[d.Name], halted[d.Name] = d.Name, d.Shut, sources.Halted(d, slices.Contains(paused, d.Connection))
	}
	callable, err := ws.Store.Callable(ctx)
	if err != nil {
		return sheet.Known{}, err
	}
	return sheet.Known{
		Workspace: ws.Workspace,
		Schema: func(source string) *value.Schema {
			k, err := ws.Sources.Schema(ctx, source)
			if err != nil {
				ws.Log.Warn("learning fields failed", "source", source, "error", err)
			}
			return k
		},
		Sources:      func() []string { return names },
		Destinations: func() []string { return destinations },
		Workflows:    func() []string { return callable },
		Reaches:      func(c string) (place.Rule, bool) { r, ok := rules[c]; return r, ok },
		Connections:  func() []string { return connections },
		People:       book,
		Shut:         func(name string) string { return shutBy[name] },
		Halted:       func(name string) string { return halted[name] },
		Unwritable:   func(source string, change bool) string { return ws.Sources.Unwritable(ctx, source, change) },
	}, nil
}
