package sources

import (
	"cmp"
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/form"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/connect/table"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/poll"
	"dorfbote/internal/store"
)

type tableInput struct {
	SourcePath
	Body struct {
		Channel string `json:"channel" minLength:"1" doc:"who is told of each answer, such as square/#counter"`
	}
}

// tableOutput is the table that a form's answers go to, and the sheet that has them go there.
type tableOutput struct {
	Body struct {
		Source string         `json:"source" doc:"of the table's rows"`
		File   string         `json:"file" doc:"in the folder of the table's connection"`
		Sheet  map[string]any `json:"sheet" doc:"a draft that adds each answer to it as a row"`
	}
}

func (s *Sources) answersRoutes() {
	kit.Changes(s.Kit, kit.Op("make-answers-table", http.MethodPost, "/api/sources/{connection}/{kind}/table", "Make a table for a form's answers, with a sheet that has them go there", "Sources"), kit.Editors, kit.Act[tableInput, tableOutput](store.AboutSource, func(in *tableInput) string { return in.name() }), s.makeAnswersTable)
}

// makeAnswersTable makes a table in the folder of this server, with a column for each question, begins to read it, and drafts the sheet
// that adds each answer to it.
func (s *Sources) makeAnswersTable(ctx context.Context, _ *kit.Person, in *tableInput) (*tableOutput, error) {
	src, err := s.Store.SourceNamed(ctx, in.name())
	if err != nil {
		return nil, err
	}
	if src == nil {
		return nil, gorm.ErrRecordNotFound
	}
	if of, err := s.Store.ConnectionOf(ctx, src.Connection, "form"); err != nil || of == nil {
		return nil, huma.Error409Conflict("Only a form can have a table made for its answers.")
	}
	if s.Engine.Env.Folder == "" {
		return nil, huma.Error409Conflict("This server has no folder for tables. Ask whoever runs it to set DORFBOTE_FOLDER.")
	}
	to, err := s.tables(ctx)
	if err != nil {
		return nil, err
	}
	config, err := s.Engine.Sources.Config(to)
	if err != nil {
		return nil, err
	}
	columns, facts, set := []string{"id"}, []any{}, map[string]any{"id": "${record.id}"}
	questions, err := form.Read(src.Settings["fields"])
	if err != nil {
		return nil, err
	}
	for _, q := range questions {
		columns = append(columns, q.Name)
		set[q.Name] = "${record" + formula.Into(q.Name) + "}"
		if len(facts) < 8 {
			facts = append(facts, map[string]any{"label": cmp.Or(q.Label, q.Name), "value": formula.Telling(value.Field{Name: q.Name, Type: q.Type}, nil)})
		}
	}
	file, err := table.Make(config, connect.KindName(src.Title, src.Connection), columns)
	if err != nil {
		return nil, err
	}
	kind := connect.KindName(strings.TrimSuffix(file, ".csv"), "answers")
	row := &store.Source{Name: to.ID + "/" + kind, Connection: to.ID, Title: strings.TrimSuffix(file, ".csv"), KeyField: "id", Settings: store.Texts{"file": file}, Schema: src.Schema}
	if _, err := s.begun(ctx, kinds.Named("table"), row, &NewSource{Begin: poll.Begin{How: "now"}}); err != nil {
		return nil, err
	}
	kit.Touched(ctx, nil, map[string]string{"source": row.Name, "file": file})
	out := &tableOutput{}
	out.Body.Source, out.Body.File = row.Name, file
	out.Body.Sheet = map[string]any{
		"dorfbote": 1, "name": "Save the answers to " + src.Title, "watch": map[string]any{"source": src.Name, "on": []string{"created"}},
		"messages": map[string]any{"answer": map[string]any{"title": "A new answer to " + src.Title, "facts": facts}},
		"route":    map[string]any{"otherwise": map[string]any{"tell": []any{map[string]any{"to": in.Body.Channel, "message": "answer"}}}},
		"follow":   []any{map[string]any{"add": map[string]any{"source": row.Name, "set": set}}},
	}
	return out, nil
}

// tables gives the connection to the tables in this server's folder, which is made where there is none.
func (s *Sources) tables(ctx context.Context) (*store.Connection, error) {
	list, err := s.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	taken := map[string]bool{}
	for i := range list {
		c := &list[i]
		taken[c.ID] = true
		if c.Kind == "table" && c.Settings["where"] == "in a folder" && c.Settings["folder"] == "" && !c.Paused {
			return c, nil
		}
	}
	id := "tables"
	for taken[id] {
		id += "-2"
	}
	c := &store.Connection{ID: id, Kind: "table", Title: "Tables", KeyField: "id", Settings: store.Texts{"where": "in a folder"}, CreatedAt: s.Engine.Now()}
	return c, s.Store.AddConnection(ctx, c)
}
