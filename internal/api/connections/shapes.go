package connections

import (
	"cmp"
	"context"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect"
	"dorfbote/internal/core/shape"
	"dorfbote/internal/core/value"
)

type exampleInput struct {
	Body struct {
		Example string                `json:"example" maxLength:"20000" doc:"the body of a call as the other side describes it, as JSON or as form fields (a=b&c=d)"`
		Chosen  map[string]shape.Role `json:"chosen,omitempty" doc:"what texts stand for, by their paths, where the guess is wrong"`
		Always  []string              `json:"always,omitempty" maxItems:"500" doc:"paths of texts that are sent where they are empty, too"`
	}
}

// ExampleBody is a shape that was made of an example.
type ExampleBody struct {
	Shape  string       `json:"shape" doc:"as JSON; empty where the example cannot be read"`
	Leaves []shape.Leaf `json:"leaves" doc:"the example's texts, and what each stands for"`
	Roles  []shape.Role `json:"roles" doc:"what a text can stand for"`
	Form   bool         `json:"form,omitempty" doc:"the example is one of form fields"`
	Secret string       `json:"secret,omitempty" doc:"what the example has for a secret, which the shape calls post.secret: to be kept as the connection's body_secret"`
	// Problem is why the example cannot be read.
	Problem string `json:"problem,omitempty"`
}

type exampleOutput struct{ Body ExampleBody }

// leavesShown is how many texts of an example are shown, and can be chosen for.
const leavesShown = 200

func (s *Connections) shapeRoutes() {
	kit.Register(s.Kit, kit.Op("shape-of-example", http.MethodPost, "/api/shapes/example", "Make a shape of an example, without keeping anything", "Connections"), kit.Editors, s.shapeOfExample)
}

func (s *Connections) shapeOfExample(_ context.Context, _ *kit.Person, in *exampleInput) (*exampleOutput, error) {
	out := &exampleOutput{ExampleBody{Leaves: []shape.Leaf{}, Roles: shape.Roles}}
	v, wrong := value.ReadJSON([]byte(strings.TrimSpace(in.Body.Example)))
	if fields := formOf(in.Body.Example); wrong != nil && fields != nil {
		v, wrong, out.Body.Form = fields, nil, true
	}
	if wrong != nil {
		out.Body.Problem = "this is not JSON that can be read: " + wrong.Error()
		return out, nil //nolint:nilerr // a person is still typing it: what is wrong is the answer
	}
	for path, r := range in.Body.Chosen {
		if !slices.Contains(shape.Roles, r) {
			return nil, kit.Invalid("body.chosen."+path, "there is nothing called %q that a text could stand for", string(r))
		}
	}
	made, leaves := shape.FromExample(v, in.Body.Chosen, in.Body.Always)
	if _, wrong := shape.Of(made, s.Engine.Workspace); wrong != nil {
		out.Body.Problem = wrong.Error()
		return out, nil //nolint:nilerr // likewise
	}
	for i := range leaves {
		if leaves[i].Is == shape.Secret {
			out.Body.Secret, leaves[i].Text = cmp.Or(out.Body.Secret, leaves[i].Text), connect.Cut
		}
	}
	out.Body.Shape = string(value.AppendJSON(nil, made))
	if leaves != nil {
		out.Body.Leaves = leaves[:min(len(leaves), leavesShown)]
	}
	return out, nil
}

// formOf reads form fields (application/x-www-form-urlencoded): a field that stands several times is a list; nil for what is none.
func formOf(text string) any {
	text = strings.TrimSpace(text)
	if !strings.Contains(text, "=") || strings.ContainsAny(text, "{}<>") {
		return nil
	}
	fields, err := url.ParseQuery(strings.ReplaceAll(text, "\n", ""))
	if err != nil {
		return nil
	}
	out := map[string]any{}
	for name, all := range fields {
		if name == "" {
			return nil
		}
		list := make([]any, len(all))
		for i, v := range all {
			list[i] = v
		}
		if out[name] = list; len(list) == 1 {
			out[name] = list[0]
		}
	}
	return out
}
