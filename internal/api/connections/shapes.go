package connections

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/shape"
	"dorfbote/internal/core/value"
)

type exampleInput struct {
	Body struct {
		Example string                `json:"example" maxLength:"20000" doc:"the body of a call as the other side describes it, as JSON"`
		Chosen  map[string]shape.Role `json:"chosen,omitempty" doc:"what texts stand for, by their paths, where the guess is wrong"`
	}
}

// ExampleBody is a shape that was made of an example.
type ExampleBody struct {
	Shape  string       `json:"shape" doc:"as JSON; empty where the example cannot be read"`
	Leaves []shape.Leaf `json:"leaves" doc:"the example's texts, and what each stands for"`
	Roles  []shape.Role `json:"roles" doc:"what a text can stand for"`
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
	if wrong != nil {
		out.Body.Problem = "this is not JSON that can be read: " + wrong.Error()
		return out, nil //nolint:nilerr // a person is still typing it: what is wrong is the answer
	}
	for path, r := range in.Body.Chosen {
		if !slices.Contains(shape.Roles, r) {
			return nil, kit.Invalid("body.chosen."+path, "there is nothing called %q that a text could stand for", string(r))
		}
	}
	made, leaves := shape.FromExample(v, in.Body.Chosen)
	if _, wrong := shape.Of(made, s.Engine.Workspace); wrong != nil {
		out.Body.Problem = wrong.Error()
		return out, nil //nolint:nilerr // likewise
	}
	out.Body.Shape = string(value.AppendJSON(nil, made))
	if leaves != nil {
		out.Body.Leaves = leaves[:min(len(leaves), leavesShown)]
	}
	return out, nil
}
