package sentence

// unless is who is told where nobody takes an alert in time.
type unless struct {
	within string
	tell   []string
}

// asksFirst reads "ask #board before telling #tours when …" and "ask #board first": who is asked, and told only by their consent.
func (r *reader) asksFirst() {
	for i := range r.tokens {
		if !contains(r.g.Ask, r.tokens[i].low) || r.tokens[i].as != "" {
			continue
		}
		end, of := i+1, []string(nil)
		for end < len(r.tokens) && !r.tokens[end-1].ends {
			t := r.tokens[end]
			if t.channel == "" && t.as != AsPerson && !contains(r.g.Between, t.low) {
				break
			}
			if t.channel != "" {
				of = append(of, t.channel)
			}
			end++
		}
		if len(of) == 0 {
			continue
		}
		for j := i + 1; j < end; j++ {
			r.tokens[j].channel = ""
			if r.tokens[j].as == "" {
				r.tokens[j].as = AsFiller
			}
		}
		r.mark(i, i+1, AsWord, "asks first")
		if end < len(r.tokens) && contains(r.g.First, r.tokens[end].low) && r.tokens[end].as == "" {
			r.mark(end, end+1, AsWord, "asks first")
			for j := end + 1; j < len(r.tokens) && contains(r.g.BeforeTelling, r.tokens[j].low); j++ {
				r.mark(j, j+1, AsWord, "")
			}
		}
		r.draft.asks = append(r.draft.asks, of...)
	}
}

// ifNobody reads "tell #board if nobody takes it within 15 minutes", in either order: those are told only then.
func (r *reader) ifNobody() {
	for i := range r.tokens {
		width := 0
		for _, p := range r.g.Untaken {
			if n := len(tokens(p)); i+n <= len(r.tokens) && r.free(i, i+n) && r.phrase(i, i+n) == p {
				width = n
			}
		}
		if width == 0 {
			continue
		}
		end, within := i+width, "15m"
		if end < len(r.tokens) && contains(r.g.Within, r.tokens[end].low) {
			if n, unit, w := r.span(end+1, len(r.tokens)); w > 0 {
				within, end = n+unit, end+1+w
			}
		}
		from := i
		if i > 0 && contains(r.g.If, r.tokens[i-1].low) {
			from--
		}
		told := r.tellers(from, end)
		if len(told) == 0 {
			continue // it is asked what is meant
		}
		r.mark(from, end, AsTime, "unless it is taken within "+within)
		r.draft.unless = append(r.draft.unless, unless{within, told})
	}
}

// tellers takes out of the sentence who is told by the words around some tokens: those right before them or, where there are none,
// right behind.
func (r *reader) tellers(from, to int) (out []string) {
	take := func(i int) {
		out = append(out, r.tokens[i].channel)
		r.tokens[i].channel = ""
	}
	begin := from - 1
	for begin >= 0 && !contains(r.g.Orders, r.tokens[begin].low) {
		if r.tokens[begin].ends && begin < from-1 {
			break
		}
		if contains(r.g.When, r.tokens[begin].low) && r.tokens[begin].as == "" {
			begin = -1 // what starts it stands between: they are told at once
		}
		begin--
	}
	for i := max(begin, 0); begin >= 0 && i < from; i++ {
		if r.tokens[i].channel != "" {
			take(i)
		}
	}
	if len(out) > 0 {
		return out
	}
	for i := to; i < len(r.tokens) && (i == to || !r.tokens[i-1].ends); i++ {
		if r.tokens[i].channel != "" {
			take(i)
		} else if len(out) > 0 && !contains(r.g.AndThe, r.tokens[i].low) && r.tokens[i].as == "" {
			break
		}
	}
	return out
}

// question is what the draft asks first, and what it is told by.
const question = "verdict"

// after adds to a sheet what is asked before, and what follows where nobody takes it.
func (r *reader) after(sheet map[string]any) {
	messages, _ := sheet["messages"].(map[string]any)
	alert, _ := messages["alert"].(map[string]any)
	if len(r.draft.asks) > 0 {
		var of any = r.draft.asks[0]
		if len(r.draft.asks) > 1 {
			all := make([]any, len(r.draft.asks))
			for i, a := range r.draft.asks {
				all[i] = a
			}
			of = all
		}
		sheet["ask"] = []any{map[string]any{
			"name": question, "of": of, "message": "question", "within": "2d",
			"choices": []any{map[string]any{"name": "approve", "text": "Approve"}, map[string]any{"name": "decline", "text": "Decline", "comment": "required"}},
		}}
		title, _ := alert["title"].(string)
		asks := map[string]any{"title": title + "?"}
		if facts, ok := alert["facts"].([]any); ok && len(facts) > 0 {
			asks["facts"] = facts
		}
		messages["question"] = asks
		sheet["route"] = approved(sheet["route"].(map[string]any))
	}
	if len(r.draft.unless) == 0 {
		return
	}
	alert["buttons"] = []any{map[string]any{"text": "I take it", "claim": true}}
	var steps []any
	for _, u := range r.draft.unless {
		steps = append(steps, map[string]any{"unless": map[string]any{"claimed": true, "within": u.within}, "tell": tells(u.tell)})
	}
	sheet["follow"] = steps
}

// approved is a route on which only what was approved goes on.
func approved(route map[string]any) map[string]any {
	yes := map[string]any{"field": question + ".choice", "is": "approve"}
	rows, _ := route["rows"].([]any)
	out := map[string]any{}
	if take, ok := route["take"]; ok {
		out["take"] = take
	}
	var list []any
	for _, e := range rows {
		row := e.(map[string]any)
		both := map[string]any{"name": row["name"], "tell": row["tell"], "when": map[string]any{"all": []any{yes, row["when"]}}}
		list = append(list, both)
	}
	if o, ok := route["otherwise"].(map[string]any); ok {
		list = append(list, map[string]any{"name": "Approved", "when": yes, "tell": o["tell"]})
	}
	out["rows"] = list
	return out
}
