package api

import (
	"crypto/rand"
	"encoding/base64"
	"html/template"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
)

// frontend serves the built application; every address that is no file gives the page itself.
func (s *Server) frontend() http.Handler {
	index, err := fs.ReadFile(s.o.Web, "index.html")
	files := http.FileServerFS(s.o.Web)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if strings.HasPrefix(name, "api/") || strings.HasPrefix(name, "in/") || r.Method != http.MethodGet && r.Method != http.MethodHead {
			kit.WriteProblem(w, http.StatusNotFound, "path", "there is nothing at "+r.URL.Path)
			return
		}
		secure(w)
		if st, e := fs.Stat(s.o.Web, name); e == nil && !st.IsDir() && name != "index.html" {
			if strings.HasPrefix(name, "assets/") {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			if !s.sendCompressed(w, r, name) {
				files.ServeHTTP(w, r)
			}
			return
		}
		if err != nil {
			http.Error(w, "The front end is not built; run 'make build'.", http.StatusServiceUnavailable)
			return
		}
		raw := make([]byte, 16)
		_, _ = rand.Read(raw)
		nonce := base64.StdEncoding.EncodeToString(raw)
		w.Header().Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-"+nonce+"'; style-src-attr 'none'; "+
			"img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		_, _ = w.Write([]byte(strings.Replace(string(index), "NONCE", nonce, 1)))
	})
}

// encodings are how the build has compressed files, the smallest first, by the ends of their names (RFC 9110, 8.4.1).
var encodings = []struct{ name, end string }{{"br", ".br"}, {"gzip", ".gz"}}

// sendCompressed sends a file as the build has compressed it, if it has and the browser takes that.
func (s *Server) sendCompressed(w http.ResponseWriter, r *http.Request, name string) bool {
	for _, e := range encodings {
		f, err := s.o.Web.Open(name + e.end)
		if err != nil {
			continue
		}
		defer func() { _ = f.Close() }()
		w.Header().Add("Vary", "Accept-Encoding")
		if !accepts(r.Header.Get("Accept-Encoding"), e.name) {
			continue
		}
		raw, ok := f.(io.ReadSeeker)
		if !ok {
			return false
		}
		w.Header().Set("Content-Encoding", e.name)
		w.Header().Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
		http.ServeContent(w, r, "", time.Time{}, raw)
		return true
	}
	return false
}

// accepts tells whether a client takes an encoding (RFC 9110, 12.5.3).
func accepts(header, encoding string) bool {
	for part := range strings.SplitSeq(header, ",") {
		name, weight, _ := strings.Cut(part, ";")
		if strings.EqualFold(strings.TrimSpace(name), encoding) {
			q, err := strconv.ParseFloat(strings.TrimPrefix(strings.ReplaceAll(weight, " ", ""), "q="), 64)
			return weight == "" || err == nil && q > 0
		}
	}
	return false
}

func secure(w http.ResponseWriter) {
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("Referrer-Policy", "same-origin")
	w.Header().Set("X-Frame-Options", "DENY")
}

var docsPage = template.Must(template.New("docs").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Dorfbote API</title>
<style>body{font:16px/1.5 Georgia,serif;max-width:56rem;margin:2rem auto;padding:0 1rem;color:#2a2620;background:#faf7f0}code{font:14px/1.4 ui-monospace,monospace}
h2{border-bottom:1px solid #cfc6b4;margin-top:2rem}dt{margin-top:.8rem}dd{margin:0 0 0 1.5rem}b{display:inline-block;min-width:4.5rem}</style>
<h1>Dorfbote API</h1><p>The full description is OpenAPI 3.1: <a href="/api/openapi.json">/api/openapi.json</a> or <a href="/api/openapi.yaml">/api/openapi.yaml</a>.
Errors are problem details (RFC 9457). Sign in with <code>POST /api/sign-in</code>; the session is a cookie.</p>
<h2>Events in</h2><dl><dt><code><b>POST</b> /in/{connection}[/{kind}]</code></dt><dd>CloudEvents 1.0 (structured, binary, batch) or plain JSON records; 202 when they are durable.</dd></dl>
{{range .}}<h2>{{.Tag}}</h2><dl>{{range .Ops}}<dt><code><b>{{.Method}}</b> {{.Path}}</code></dt><dd>{{.Summary}}{{range .Params}}<br><code>{{.}}</code>{{end}}</dd>{{end}}</dl>{{end}}</html>`))

type docOp struct {
	Method, Path, Summary string
	Params                []string
}

type docTag struct {
	Tag string
	Ops []docOp
}

// docs is a page about the API that needs nothing from outside.
func (s *Server) docs(w http.ResponseWriter, _ *http.Request) {
	byTag := map[string][]docOp{}
	for p, item := range s.API.OpenAPI().Paths {
		for method, o := range map[string]any{"GET": item.Get, "POST": item.Post, "PUT": item.Put, "PATCH": item.Patch, "DELETE": item.Delete} {
			if d, tag, ok := docOf(method, p, o); ok {
				byTag[tag] = append(byTag[tag], d)
			}
		}
	}
	var tags []docTag
	for tag, ops := range byTag {
		sort.Slice(ops, func(i, j int) bool { return ops[i].Path+ops[i].Method < ops[j].Path+ops[j].Method })
		tags = append(tags, docTag{tag, ops})
	}
	sort.Slice(tags, func(i, j int) bool { return tags[i].Tag < tags[j].Tag })
	secure(w)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'")
	_ = docsPage.Execute(w, tags)
}

func docOf(method, path string, o any) (docOp, string, bool) {
	op, ok := o.(*huma.Operation)
	if !ok || op == nil {
		return docOp{}, "", false
	}
	d := docOp{Method: method, Path: path, Summary: op.Summary}
	for _, p := range op.Parameters {
		d.Params = append(d.Params, p.In+" "+p.Name)
	}
	tag := "Other"
	if len(op.Tags) > 0 {
		tag = op.Tags[0]
	}
	return d, tag, true
}
