package sentence

import (
	"bytes"
	_ "embed"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/place"
)

//go:embed english.yaml
var englishWords []byte

// english is the grammar by which sentences are read.
var english = mustGrammar(englishWords)

// grammar is a language as it is read: its words by what they mean. What each list is for is said beside it in english.yaml.
type grammar struct {
	Orders        []string                `yaml:"orders"`
	Verbs         map[string]place.Form   `yaml:"verbs"`
	ToldBehind    []string                `yaml:"told_behind"`
	ToldBehindThe []string                `yaml:"told_behind_the"`
	ToldPersons   []string                `yaml:"told_persons"`
	Begins        []string                `yaml:"begins"`
	NoVerb        []string                `yaml:"no_verb"`
	About         []string                `yaml:"about"`
	Themselves    []string                `yaml:"themselves"`
	TheirAddress  string                  `yaml:"their_address"`
	AddressFields map[place.Form][]string `yaml:"address_fields"`
	Ask           []string                `yaml:"ask"`
	First         []string                `yaml:"first"`
	BeforeTelling []string                `yaml:"before_telling"`
	Between       []string                `yaml:"between"`
	Untaken       []string                `yaml:"untaken"`
	Nobody        []string                `yaml:"nobody"`
	It            []string                `yaml:"it"`
	If            []string                `yaml:"if"`
	IfAnd         []string                `yaml:"if_and"`
	Within        []string                `yaml:"within"`
	Rest          []string                `yaml:"rest"`
	RestWord      []string                `yaml:"rest_word"`
	RestBefore    []string                `yaml:"rest_before"`
	Goes          []string                `yaml:"goes"`
	With          []string                `yaml:"with"`
	Attach        []string                `yaml:"attach"`
	Attached      []string                `yaml:"attached"`
	AttachFillers []string                `yaml:"attach_fillers"`
	Tables        []string                `yaml:"tables"`
	List          []string                `yaml:"list"`
	When          []string                `yaml:"when"`
	Opening       []string                `yaml:"opening"`
	AsLongAs      []string                `yaml:"as_long_as"`
	New           []string                `yaml:"new"`
	Arrives       []string                `yaml:"arrives"`
	Row           []string                `yaml:"row"`
	Turns         []string                `yaml:"turns"`
	Is            []string                `yaml:"is"`
	Operators     []operator              `yaml:"operators"`
	OrMore        map[string]string       `yaml:"or_more"`
	SpanFrom      []string                `yaml:"span_from"`
	Deny          []string                `yaml:"deny"`
	NoLonger      []string                `yaml:"no_longer"`
	Except        []string                `yaml:"except"`
	ExceptTwo     []string                `yaml:"except_two"`
	ExceptOnly    []string                `yaml:"except_only"`
	Excepting     []string                `yaml:"excepting"`
	Without       []string                `yaml:"without"`
	OtherThan     []string                `yaml:"other_than"`
	Passed        []string                `yaml:"passed"`
	And           []string                `yaml:"and"`
	But           []string                `yaml:"but"`
	Or            []string                `yaml:"or"`
	Joins         []string                `yaml:"joins"`
	OrAnd         []string                `yaml:"or_and"`
	AndThe        []string                `yaml:"and_the"`
	Either        []string                `yaml:"either"`
	Numbers       map[string]string       `yaml:"numbers"`
	Multiples     map[string]float64      `yaml:"multiples"`
	Ordinals      map[string]int          `yaml:"ordinals"`
	Units         map[string]string       `yaml:"units"`
	One           []string                `yaml:"one"`
	Spans         []spanWords             `yaml:"spans"`
	Lasting       []string                `yaml:"lasting"`
	LongerThan    []string                `yaml:"longer_than"`
	Before        []string                `yaml:"before"`
	After         []string                `yaml:"after"`
	By            []string                `yaml:"by"`
	ByMore        []string                `yaml:"by_more"`
	PerDay        []string                `yaml:"per_day"`
	DueWays       []string                `yaml:"due_ways"`
	Due           []string                `yaml:"due"`
	Past          []string                `yaml:"past"`
	DueIn         []string                `yaml:"due_in"`
	Overdue       []string                `yaml:"overdue"`
	Late          []string                `yaml:"late"`
	DueField      []string                `yaml:"due_field"`
	Around        []string                `yaml:"around"`
	AtOnce        []string                `yaml:"at_once"`
	EachChange    []string                `yaml:"each_change"`
	Mornings      []string                `yaml:"mornings"`
	Daily         []string                `yaml:"daily"`
	OnlyOnce      []string                `yaml:"only_once"`
	OfficeHours   []string                `yaml:"office_hours"`
	Every         []string                `yaml:"every"`
	On            []string                `yaml:"on"`
	At            []string                `yaml:"at"`
	Hours         []string                `yaml:"hours"`
	Morning       []string                `yaml:"morning"`
	Days          []string                `yaml:"days"`
	Workday       []string                `yaml:"workday"`
	Weekend       []string                `yaml:"weekend"`
	Done          []string                `yaml:"done"`
	The           []string                `yaml:"the"`
	TheIts        []string                `yaml:"the_its"`
	Articles      []string                `yaml:"articles"`
	Determiners   []string                `yaml:"determiners"`
	Fillers       []string                `yaml:"fillers"`
	Words         []string                `yaml:"words"`
	Telltale      []string                `yaml:"telltale"`
	Plurals       []plural                `yaml:"plurals"`
}

// operator is a comparison, and words for it.
type operator struct {
	Op    string `yaml:"op"`
	Words string `yaml:"words"`
}

// spanWords are words for a span of time: so many of a unit.
type spanWords struct {
	Words string `yaml:"words"`
	N     string `yaml:"n"`
	Unit  string `yaml:"unit"`
}

// plural is an ending of the plural, and what stands in its place in the singular.
type plural struct {
	End     string `yaml:"end"`
	Becomes string `yaml:"becomes"`
}

// readGrammar reads a language. A list that it does not know, or one that stands twice, is an error.
func readGrammar(raw []byte) (*grammar, error) {
	var g grammar
	dec := yaml.NewDecoder(bytes.NewReader(raw))
	dec.KnownFields(true)
	return &g, dec.Decode(&g)
}

func mustGrammar(raw []byte) *grammar {
	g, err := readGrammar(raw)
	if err != nil {
		panic(err) // it ships with the program
	}
	return g
}

// singular takes the ending of the plural off a word.
func (g *grammar) singular(s string) string {
	for _, p := range g.Plurals {
		if rest, ok := strings.CutSuffix(s, p.End); ok {
			return rest + p.Becomes
		}
	}
	return s
}
