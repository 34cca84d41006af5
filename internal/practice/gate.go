package practice

import (
	"net/http"
	"net/url"

	"github.com/go-chi/chi/v5"

	"dorfbote/internal/practice/gatekeeper"
	"dorfbote/internal/practice/world"
)

// gateRow says where an app asks before it does something.
type gateRow struct {
	App     string `json:"app" gorm:"primaryKey"`
	Address string `json:"address"`
	Token   string `json:"-"`
}

func (gateRow) TableName() string { return "practice.gates" }

// gated is what an app asks about before it does it: the Counter, before it confirms an order.
var gated = map[string]struct{ kind, field, value, amount string }{"counter": {"orders", "status", "confirmed", "amount"}}

func (s *Server) gateRoutes(r chi.Router) {
	r.Get("/apps/{app}/gate", s.showGate)
	r.Put("/apps/{app}/gate", s.setGate)
	r.Delete("/apps/{app}/gate", s.openGate)
}

func (s *Server) showGate(w http.ResponseWriter, r *http.Request) {
	g := gateRow{App: chi.URLParam(r, "app")}
	if err := s.db.WithContext(r.Context()).Where("app = ?", g.App).Limit(1).Find(&g).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	answer(w, http.StatusOK, g)
}

func (s *Server) setGate(w http.ResponseWriter, r *http.Request) {
	m, ok := readBody(w, r)
	if !ok {
		return
	}
	g := gateRow{App: chi.URLParam(r, "app"), Address: text(m["address"]), Token: text(m["token"])}
	if _, known := gated[g.App]; !known {
		problem(w, http.StatusNotFound, "%s asks nobody before it does something", g.App)
		return
	}
	if u, err := url.Parse(g.Address); err != nil || u.Host == "" || g.Token == "" {
		problem(w, http.StatusBadRequest, "give the address that is called, and the token that the call is allowed by")
		return
	}
	if err := s.db.WithContext(r.Context()).Save(&g).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	answer(w, http.StatusOK, g)
}

func (s *Server) openGate(w http.ResponseWriter, r *http.Request) {
	if err := s.db.WithContext(r.Context()).Exec("DELETE FROM practice.gates WHERE app = ?", chi.URLParam(r, "app")).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// mayChange asks, where an app asks, whether a record may be changed so; it answers with why not.
func (s *Server) mayChange(w http.ResponseWriter, r *http.Request, k *world.RecordKind, key string, fields map[string]any) bool {
	about, ok := gated[k.App]
	if !ok || k.Name != about.kind || fields[about.field] != about.value {
		return true
	}
	var g gateRow
	if err := s.db.WithContext(r.Context()).Where("app = ?", k.App).Limit(1).Find(&g).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return false
	}
	var now record
	if g.Address == "" || s.db.WithContext(r.Context()).First(&now, "app = ? AND kind = ? AND key = ?", k.App, k.Name, key).Error != nil {
		return true
	}
	was := now.fields()
	after := merged(was, fields)
	if was[about.field] == about.value {
		return true
	}
	said, err := gatekeeper.Gate{Address: g.Address, Token: g.Token}.Ask(r.Context(), gatekeeper.Question{What: key, Amount: after[about.amount]})
	switch {
	case err != nil:
		problem(w, http.StatusConflict, "%s was asked whether %s may be %s: %v", k.App+"'s gatekeeper", key, about.value, err)
	case !said.Allowed:
		problem(w, http.StatusConflict, "%s may not be %s%s%s", key, about.value, before(": ", said.Words), before(", says ", said.By))
	}
	return err == nil && said.Allowed
}

func before(lead, words string) string {
	if words == "" {
		return ""
	}
	return lead + words
}
