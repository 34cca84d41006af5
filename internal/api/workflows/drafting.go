package workflows

import (
	"context"
	"net/http"
	"strings"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/sentence"
	"dorfbote/internal/core/value"
	"dorfbote/internal/patterns"
)

type sentenceInput struct {
	Body struct {
		Text   string   `json:"text" maxLength:"2000"`
		Waived []string `json:"waived,omitempty" maxItems:"100" doc:"questions that are left unanswered: the words that each is about, or its own where it is about what is missing"`
	}
}

type sentenceOutput struct{ Body sentence.Reading }

type patternInput struct {
	Name string `path:"name"`
	Body struct {
		Blanks map[string]string `json:"blanks"`
	}
}

type patternOutput struct {
	Body struct {
		Sheet map[string]any `json:"sheet"`
	}
}

func (s *Workflows) draftingRoutes() {
	kit.Register(s.Kit, kit.Op("read-sentence", http.MethodPost, "/api/sentence", "Drafts a sheet from a sentence, and says how each word was read", "Workflows"), kit.Anyone, s.readSentence)
	kit.Register(s.Kit, kit.Op("list-patterns", http.MethodGet, "/api/patterns", "Ready-made sheets with blanks to fill in", "Workflows"), kit.Anyone,
		func(context.Context, *kit.Person, *struct{}) (*kit.List[patterns.Pattern], error) {
			all, err := patterns.All()
			return kit.ListOf(all, 0), err
		})
	kit.Register(s.Kit, kit.Op("fill-pattern", http.MethodPost, "/api/patterns/{name}", "The sheet of a pattern with its blanks filled in; nothing is made", "Workflows"), kit.Anyone, s.fillPattern)
}

// sentenceValues is how many values of a field a sentence may name.
const sentenceValues = 200

func (s *Workflows) readSentence(ctx context.Context, _ *kit.Person, in *sentenceInput) (*sentenceOutput, error) {
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	world := sentence.World{Now: s.Engine.Now().In(s.Engine.Workspace.Location()), Workspace: s.Engine.Workspace, People: known.People}
	for _, c := range known.Connections() {
		if rule, ok := known.Reaches(c); ok && (rule.Form == place.Mail || rule.Form == place.Number) {
			world.Senders = append(world.Senders, sentence.Sender{Name: c, Form: rule.Form})
		}
	}
	for _, name := range known.Sources() {
		fields, key := s.kindsOf(ctx, known.Schema).Fields(name)
		src := sentence.KnownSource{Name: name, Key: key}
		if row, err := s.Store.SourceNamed(ctx, name); err == nil && row != nil {
			src.Title = row.Title
		}
		records, err := s.Store.SampleRecords(ctx, name, sentenceValues)
		if err != nil {
			return nil, err
		}
		for _, f := range fields {
			if f.Hidden {
				continue
			}
			src.Fields = append(src.Fields, sentence.Field{Field: f, Values: valuesOf(f, records)})
		}
		world.Sources = append(world.Sources, src)
	}
	for _, name := range known.Destinations() {
		_, title, _ := strings.Cut(name, "/")
		world.Channels = append(world.Channels, sentence.Channel{Name: name, Title: title})
	}
	return &sentenceOutput{sentence.Read(in.Body.Text, world, in.Body.Waived...)}, nil
}

// valuesOf are the texts that a field has in some records. A field in which each is another, such as a name or a note, is
// still of use: a sentence may name one.
func valuesOf(f value.Field, records []map[string]any) []string {
	if !f.Type.IsText() || len(f.Options) > 0 {
		return nil
	}
	var out []string
	seen := map[string]bool{}
	path := value.ParsePath(f.Name)
	for _, r := range records {
		v, _ := path.Get(r)
		if text, ok := v.(string); ok && text != "" && len(text) < 60 && !seen[text] {
			seen[text] = true
			out = append(out, text)
		}
	}
	return out
}

// kindsOf gives patterns and sentences the fields of sources.
func (s *Workflows) kindsOf(ctx context.Context, schema func(string) *value.Schema) sourceKinds {
	return sourceKinds{s, ctx, schema}
}

type sourceKinds struct {
	server *Workflows
	ctx    context.Context
	schema func(string) *value.Schema
}

// Fields gives the fields of a source and the name of its key.
func (k sourceKinds) Fields(source string) ([]value.Field, string) {
	key := "id"
	if row, err := k.server.Store.SourceNamed(k.ctx, source); err == nil && row != nil && row.KeyField != "" {
		key = row.KeyField
	}
	schema := k.schema(source)
	if schema == nil {
		return nil, key
	}
	return schema.Fields, key
}

func (s *Workflows) fillPattern(ctx context.Context, _ *kit.Person, in *patternInput) (*patternOutput, error) {
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	all, err := patterns.All()
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Name != in.Name {
			continue
		}
		sheet, err := all[i].Fill(in.Body.Blanks, s.kindsOf(ctx, known.Schema))
		if err != nil {
			return nil, kit.Invalid("body.blanks", "%v", err)
		}
		out := &patternOutput{}
		out.Body.Sheet = sheet
		return out, nil
	}
	return nil, kit.Invalid("path.name", "there is no pattern %s", in.Name)
}
