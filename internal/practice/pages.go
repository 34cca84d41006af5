package practice

import (
	"html/template"
	"net/http"

	"github.com/go-chi/chi/v5"
	"gorm.io/gorm"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
	"dorfbote/internal/practice/world"
)

// The apps' own pages: plain HTML, to look at records and edit them without Dorfbote.
var page = template.Must(template.New("page").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>{{.Title}}</title>
<meta name="viewport" content="width=device-width, initial-scale=1">
<style>body{font:16px/1.5 system-ui,sans-serif;margin:2rem auto;max-width:60rem;padding:0 1rem;color:#222}table{border-collapse:collapse;width:100%}
th,td{text-align:left;padding:.3rem .6rem;border-bottom:1px solid #ddd;vertical-align:top}nav a{margin-right:1rem}label{display:block;margin:.4rem 0}
input,select{font:inherit;width:20rem;padding:.2rem}.wide{overflow-x:auto}</style>
<nav>{{range .Kinds}}<a href="/pages/{{.App}}/{{.Name}}">{{.App}} · {{.Fields.Title}}</a> {{end}}</nav><h1>{{.Title}}</h1>
{{if .Form}}<form method="post">{{range .Form}}<label>{{.Label}}<br>{{if .Options}}<select name="{{.Name}}">{{$v := .Value}}{{range .Options}}<option{{if eq . $v}} selected{{end}}>{{.}}</option>{{end}}</select>
{{else}}<input name="{{.Name}}" value="{{.Value}}">{{end}}</label>{{end}}<p><button>Save</button></p></form>
{{else if .Head}}<div class="wide"><table><tr>{{range .Head}}<th>{{.}}</th>{{end}}</tr>{{range .Rows}}<tr>{{$key := .Key}}{{range $i, $c := .Cells}}<td>{{if eq $i 0}}<a href="{{$key}}">{{$c}}</a>{{else}}{{$c}}{{end}}</td>{{end}}</tr>{{end}}</table></div>
{{else}}<p>Small stand-ins for business apps. Choose one above.</p>{{end}}</html>`))

type formField struct {
	value.Field
	Value string
}

type pageRow struct {
	Key   string
	Cells []string
}

type pageData struct {
	Title string
	Kinds []*world.RecordKind
	Head  []string
	Rows  []pageRow
	Form  []formField
}

func (s *Server) pageRoutes(r chi.Router) {
	r.Get("/", func(w http.ResponseWriter, _ *http.Request) { s.show(w, pageData{Title: "Practice apps"}) })
	r.Get("/pages/{app}/{kind}", s.withKind(s.listPage))
	r.Get("/pages/{app}/{kind}/{key}", s.withKind(s.recordPage))
	r.Post("/pages/{app}/{kind}/{key}", s.withKind(s.savePage))
}

func (s *Server) show(w http.ResponseWriter, d pageData) {
	d.Kinds = s.kinds
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'")
	_ = page.Execute(w, d)
}

func cell(v any) string { return formula.Show(v, value.DefaultWorkspace()) }

func (s *Server) listPage(w http.ResponseWriter, r *http.Request, k *world.RecordKind) {
	var rows []record
	if err := s.db.WithContext(r.Context()).Where("app = ? AND kind = ?", k.App, k.Name).Order("updated_at DESC, key DESC").Limit(100).Find(&rows).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	d := pageData{Title: k.Fields.Title}
	for _, f := range k.Fields.Fields {
		d.Head = append(d.Head, f.Label)
	}
	for _, row := range rows {
		v, _ := value.ReadJSON(row.Data)
		m, _ := v.(map[string]any)
		pr := pageRow{Key: "/pages/" + k.Source() + "/" + row.Key}
		for _, f := range k.Fields.Fields {
			pr.Cells = append(pr.Cells, cell(m[f.Name]))
		}
		d.Rows = append(d.Rows, pr)
	}
	s.show(w, d)
}

func (s *Server) recordPage(w http.ResponseWriter, r *http.Request, k *world.RecordKind) {
	var row record
	if err := s.db.WithContext(r.Context()).First(&row, "app = ? AND kind = ? AND key = ?", k.App, k.Name, chi.URLParam(r, "key")).Error; err != nil {
		problem(w, http.StatusNotFound, "there is no record %s", chi.URLParam(r, "key"))
		return
	}
	v, _ := value.ReadJSON(row.Data)
	m, _ := v.(map[string]any)
	d := pageData{Title: k.Fields.Title + " " + row.Key}
	for _, f := range k.Fields.Fields {
		if editable(f, k) {
			d.Form = append(d.Form, formField{f, cell(m[f.Name])})
		}
	}
	s.show(w, d)
}

func editable(f value.Field, k *world.RecordKind) bool {
	return f.Name != k.Key && !f.Type.IsList() && f.Type != value.Object && f.Type != value.Link
}

func (s *Server) savePage(w http.ResponseWriter, r *http.Request, k *world.RecordKind) {
	r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
	key := chi.URLParam(r, "key")
	fields := map[string]any{}
	for _, f := range k.Fields.Fields {
		if !editable(f, k) || !r.PostForm.Has(f.Name) && r.PostFormValue(f.Name) == "" {
			continue
		}
		var v any = r.PostFormValue(f.Name)
		switch {
		case v == "":
			v = nil
		case f.Type.IsNumber():
			if n, ok := value.ReadNumber(v, value.DefaultWorkspace()); ok {
				v = n.Float
			}
		case f.Type == value.YesNo:
			v = v == "yes" || v == "true"
		}
		fields[f.Name] = v
	}
	_, err := s.apply(r.Context(), k, key, "page", func(before map[string]any) (map[string]any, string, error) {
		if before == nil {
			return nil, "", gorm.ErrRecordNotFound
		}
		return merged(before, fields), "updated", nil
	})
	if err != nil {
		problem(w, http.StatusConflict, "%v", err)
		return
	}
	http.Redirect(w, r, "/pages/"+k.Source()+"/"+key, http.StatusSeeOther)
}
