// Package shape makes the body of a call of a post. A shape is structure, never text pasted together: a tree as JSON has it,
// whose leaves are texts with formulas over the post. Whatever a record holds, what comes of a shape is of that structure.
package shape

import (
	"fmt"
	"strings"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// The parts of a shape that are no structure of the call's own. A key that begins with "$" is written "$$".
const (
	each = "$each" // a list: what stands at $as, once for each of it, which that calls "it"
	as   = "$as"
	when = "$when" // a value: what stands at $then, left out where it is empty or no
	then = "$then"
)

// Bounds of a shape and of what is made of it.
const (
	mostNodes = 2_000
	maxDepth  = 40
	mostMade  = 20_000 // values
)

// Shape is a shape made ready to use. It may be used by many goroutines at once.
type Shape struct {
	root  node
	words *formula.Words
}

// node is one place of a shape.
type node interface {
	// fill gives what stands there; ok is false where nothing does.
	fill(m *making) (v any, ok bool, err error)
}

type (
	constant struct{ v any }
	leaf     struct {
		text *formula.Template
		path string
	}
	object struct {
		keys  []string
		nodes []node
	}
	list   struct{ nodes []node }
	repeat struct {
		of   *formula.Formula
		as   node
		path string
	}
	condition struct {
		on   *formula.Formula
		then node
		path string
	}
)

// postFields are what a shape sees of a post.
var postFields = func() *value.Schema {
	text := func(names ...string) (out []value.Field) {
		for _, n := range names {
			out = append(out, value.Field{Name: n, Label: value.LabelOf(n), Type: value.Text})
		}
		return out
	}
	fields := text("title", "text", "tone", "link", "place", "key", "under", "to", "reports", "all", "secret")
	fields = append(fields,
		value.Field{Name: "facts", Label: "Facts", Type: value.List, Fields: text("label", "value")},
		value.Field{Name: "links", Label: "Links", Type: value.List, Fields: text("text", "to")},
		value.Field{Name: "mentions", Label: "Mentions", Type: value.List, Of: value.Text},
		value.Field{Name: "parts", Label: "Parts", Type: value.Num},
		value.Field{Name: "picture", Label: "Picture", Type: value.Text},
		value.Field{Name: "sender", Label: "Sender", Type: value.Object, Fields: text("name", "picture")},
	)
	return &value.Schema{Title: "post", Fields: fields}
}()

// Read reads a shape as JSON. An error is a [*fault.Fault] whose place is the path within the shape, or a
// [*value.JSONError].
func Read(text string, ws value.Workspace) (*Shape, error) {
	v, err := value.ReadJSON([]byte(text))
	if err != nil {
		return nil, err
	}
	return Of(v, ws)
}

// Of makes a shape of what has been read as JSON. The error is a [*fault.Fault] whose place is the path within the shape.
func Of(v any, ws value.Workspace) (*Shape, error) {
	c := &compiler{words: &formula.Words{Workspace: ws, Gathered: []formula.Name{{Name: "post", Schema: postFields}}}}
	root, err := c.node(v, "", 0)
	if err != nil {
		return nil, err
	}
	return &Shape{root, c.words}, nil
}

type compiler struct {
	words *formula.Words
	nodes int
}

func (c *compiler) node(v any, path string, depth int) (node, error) {
	if c.nodes++; c.nodes > mostNodes {
		return nil, fault.At(path, "a shape has at most %d parts", mostNodes)
	}
	if depth > maxDepth {
		return nil, fault.At(path, "a shape is nested at most %d deep", maxDepth)
	}
	switch x := v.(type) {
	case string:
		return c.leaf(x, path)
	case []any:
		out := &list{}
		for i, e := range x {
			n, err := c.node(e, fmt.Sprintf("%s[%d]", path, i), depth+1)
			if err != nil {
				return nil, err
			}
			out.nodes = append(out.nodes, n)
		}
		return out, nil
	case map[string]any:
		return c.object(x, path, depth)
	}
	return constant{v}, nil
}

func (c *compiler) leaf(text, path string) (node, error) {
	t, wrong := formula.ParseTemplate(text, c.words)
	if len(wrong) > 0 {
		return nil, fault.In(path, wrong[0])
	}
	if err := c.known(t, path); err != nil {
		return nil, err
	}
	if t.Constant() {
		s, err := t.Text(nil, c.words)
		return constant{s}, err
	}
	return &leaf{t, path}, nil
}

func (c *compiler) object(m map[string]any, path string, depth int) (node, error) {
	for special, other := range map[string]string{each: as, when: then} {
		if _, ok := m[special]; !ok {
			continue
		}
		if _, ok := m[other]; !ok || len(m) != 2 {
			return nil, fault.At(path, "%s stands with %s and nothing else", special, other)
		}
		f, err := c.whole(m[special], under(path, special))
		if err != nil {
			return nil, err
		}
		if special == when {
			n, err := c.node(m[then], under(path, then), depth+1)
			return &condition{f, n, under(path, when)}, err
		}
		had := c.words
		c.words = &formula.Words{Workspace: had.Workspace, Gathered: append(had.Gathered[:1:1], formula.Name{Name: "it"})}
		n, err := c.node(m[as], under(path, as), depth+1)
		c.words = had
		return &repeat{f, n, under(path, each)}, err
	}
	out := &object{}
	for _, key := range value.SortedKeys(m) {
		name := key
		if strings.HasPrefix(key, "$") {
			if !strings.HasPrefix(key, "$$") {
				return nil, fault.At(path, "there is nothing called %s; it is one of $each with $as and $when with $then, and a key that begins with $ is written $%s", key, key)
			}
			name = key[1:]
		}
		n, err := c.node(m[key], under(path, key), depth+1)
		if err != nil {
			return nil, err
		}
		out.keys, out.nodes = append(out.keys, name), append(out.nodes, n)
	}
	return out, nil
}

// under is the path of a key within what stands at a path.
func under(path, key string) string { return strings.TrimPrefix(path+"."+key, ".") }

// whole compiles a text that is one formula.
func (c *compiler) whole(v any, path string) (*formula.Formula, error) {
	text, _ := v.(string)
	if _, ok := formula.IsWhole(text); !ok {
		return nil, fault.At(path, "this is one formula, such as ${post.facts}")
	}
	t, wrong := formula.ParseTemplate(strings.TrimSpace(text), c.words)
	if len(wrong) > 0 {
		return nil, fault.In(path, wrong[0])
	}
	return t.Whole(), c.known(t, path)
}

// known refuses a formula that speaks of "it" where nothing is repeated.
func (c *compiler) known(t *formula.Template, path string) error {
	if len(c.words.Gathered) == 1 && t.UsesIt() {
		return fault.At(path, "there is nothing called it here; it is known at $as, where a list is gone through")
	}
	return nil
}

// making is one filling of a shape.
type making struct {
	scope *formula.Scope
	words *formula.Words
	made  *int
}

func (m *making) one() error {
	if *m.made++; *m.made > mostMade {
		return fmt.Errorf("it makes more than %d values", mostMade)
	}
	return nil
}

// Fill makes what a shape gives for a post: maps, lists, texts, numbers, yes and no, and nil.
func (s *Shape) Fill(post map[string]any) (any, error) {
	sc := &formula.Scope{}
	sc.Gather("post", post, post)
	v, ok, err := s.root.fill(&making{scope: sc, words: s.words, made: new(int)})
	if err != nil || !ok {
		return nil, err
	}
	return v, nil
}

func (c constant) fill(m *making) (v any, ok bool, err error) { return c.v, true, m.one() }

func (l *leaf) fill(m *making) (v any, ok bool, err error) {
	if err := m.one(); err != nil {
		return nil, false, fault.In(l.path, err)
	}
	if f := l.text.Whole(); f != nil {
		if v, err = f.Run(m.scope); err != nil {
			return nil, false, fault.In(l.path, err)
		}
		return m.plain(v), true, nil
	}
	s, err := l.text.Text(m.scope, m.words)
	if err != nil {
		return nil, false, fault.In(l.path, err)
	}
	return s, true, nil
}

// plain writes a value as JSON has it; empty is null.
func (m *making) plain(v any) any {
	if value.Empty(v) {
		return nil
	}
	switch x := formula.Plain(v).(type) {
	case formula.Rich:
		return x.Plain()
	case []any:
		out := make([]any, len(x))
		for i, e := range x {
			out[i] = m.plain(e)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, e := range x {
			out[k] = m.plain(e)
		}
		return out
	case string, bool, float64, int:
		return x
	default:
		return m.words.Show(x)
	}
}

func (o *object) fill(m *making) (v any, ok bool, err error) {
	out := make(map[string]any, len(o.nodes))
	for i, n := range o.nodes {
		v, ok, err := n.fill(m)
		if err != nil {
			return nil, false, err
		}
		if ok {
			out[o.keys[i]] = v
		}
	}
	return out, true, m.one()
}

func (l *list) fill(m *making) (v any, ok bool, err error) {
	out := []any{}
	for _, n := range l.nodes {
		v, ok, err := n.fill(m)
		switch {
		case err != nil:
			return nil, false, err
		case !ok:
			continue
		}
		if _, many := n.(*repeat); many { // what is repeated within a list stands in the list itself
			out = append(out, v.([]any)...)
			continue
		}
		out = append(out, v)
	}
	return out, true, m.one()
}

func (r *repeat) fill(m *making) (v any, ok bool, err error) {
	of, err := r.of.Run(m.scope)
	if err != nil {
		return nil, false, fault.In(r.path, err)
	}
	items, isList := of.([]any)
	if !isList && !value.Empty(of) {
		return nil, false, fault.At(r.path, "this is no list, but %s", value.Describe(of))
	}
	out := make([]any, 0, len(items))
	post := m.scope.Gathered["post"]
	for _, item := range items {
		sc := &formula.Scope{}
		sc.Gather("post", post, post)
		sc.Gather("it", item, item)
		v, ok, err := r.as.fill(&making{scope: sc, words: m.words, made: m.made})
		if err != nil {
			return nil, false, err
		}
		if ok {
			out = append(out, v)
		}
	}
	return out, true, nil
}

func (c *condition) fill(m *making) (v any, ok bool, err error) {
	on, err := c.on.Run(m.scope)
	if err != nil {
		return nil, false, fault.In(c.path, err)
	}
	if value.Empty(on) || on == false {
		return nil, false, nil
	}
	return c.then.fill(m)
}
