// Command pictures takes the README's pictures of a running demo.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dorfbote/internal/browser"
	"dorfbote/internal/demo"
)

var views = []struct{ name, path string }{
	{"today", "/today"}, {"workflows", "/workflows"}, {"sheet", "/workflows/8"}, {"rehearsal", "/workflows/8/rehearsal"}, {"new", "/workflows/new"}, {"worth", "/workflows/13/worth"}, {"book", "/people-book"},
	{"arrivals", "/arrivals"}, {"arrival", "/arrivals/20000"}, {"outbox", "/outbox"}, {"connections", "/connections"}, {"connect", "/connections/new"},
	{"connection", "/connections/notices"}, {"source", "/sources/tours/collections"}, {"form", "/form/gate"}, {"practice", "/practice"}, {"people", "/people"}, {"run", newestRun},
}

// newestRun stands for the newest run of the workflow with a follow-up.
const newestRun = "?"

func main() {
	base := flag.String("base", "http://127.0.0.1:8470", "the demo's address")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	only := flag.String("only", "", "names, separated by commas")
	path := flag.String("path", "", "with one name: another path than its own")
	flag.Parse()
	if err := run(*base, *out, *only, *path); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(base, out, only, path string) error {
	p, err := browser.Open(context.Background(), base)
	if err != nil {
		return err
	}
	defer p.Close()
	shoot := func(name string) error {
		time.Sleep(900 * time.Millisecond) // fonts and the last answers
		png, err := p.Picture()
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
	}
	if only == "" || strings.Contains(only, "signin") {
		if err := p.Until("document.querySelector('#email')"); err != nil {
			return err
		}
		if err := shoot("signin"); err != nil {
			return err
		}
	}
	if err := p.SignIn(demo.People[0].Email, demo.Password); err != nil {
		return err
	}
	for _, v := range views {
		if only != "" && !strings.Contains(","+only+",", ","+v.name+",") {
			continue
		}
		if path != "" {
			v.path = path
		}
		if v.path == newestRun {
			var err error
			if v.path, err = browser.Eval[string](p, `fetch('/api/arrivals?verdict=told&workflow=13&limit=1').then(r => r.json()).then(b => '/runs/' + b.items[0].seq + '/13')`); err != nil {
				return err
			}
		}
		if err := p.Go(v.path); err != nil {
			return err
		}
		if err := p.Until("document.querySelector('#place') || document.querySelector('form')"); err != nil { // some places come when they are first gone to
			return err
		}
		if err := shoot(v.name); err != nil {
			return err
		}
	}
	for _, t := range p.Troubles() {
		fmt.Fprintln(os.Stderr, t)
	}
	return nil
}
