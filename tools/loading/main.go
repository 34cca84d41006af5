// Command loading measures what goes over the wire until the application can be used, and how long that takes, over a slow
// line and with a slow processor. It needs a running demo.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"slices"
	"text/tabwriter"
	"time"

	"dorfbote/internal/browser"
	"dorfbote/internal/demo"
)

// line is an office's: 10 Mbit a second, and a processor a quarter as fast as this machine's.
var line = browser.Line{BytesASecond: 10e6 / 8, Latency: 20 * time.Millisecond, Slower: 4}

// places are gone to one after the other, as a person does who has just signed in.
var places = []struct{ name, path, ready string }{
	{"today", "/today", "#place h1"},
	{"workflows", "/workflows", "#place table"},
	{"a sheet", "/workflows/8", "#place .band"},
	{"rehearsal", "/workflows/8/rehearsal", "#place h1"},
	{"arrivals", "/arrivals", "#place table"},
	{"outbox", "/outbox", "#place table"},
	{"connections", "/connections", "#place table"},
	{"people", "/people", "#place table"},
	{"practice", "/practice", "#place h1"},
}

func main() {
	base := flag.String("base", "http://127.0.0.1:8470", "the demo's address")
	runs := flag.Int("runs", 5, "how often; the median is printed, with its range")
	flag.Parse()
	if err := run(*base, *runs); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// figure is what came of going to a place.
type figure struct {
	bytes int64
	took  time.Duration
}

func run(base string, runs int) error {
	var names []string
	by := map[string][]figure{}
	note := func(name string, f figure) {
		if by[name] == nil {
			names = append(names, name)
		}
		by[name] = append(by[name], f)
	}
	for range runs {
		if err := once(base, note); err != nil {
			return err
		}
	}
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintf(w, "place\tkB over the wire\tusable after\t(range of %d)\n", runs)
	for _, n := range names {
		list := by[n]
		slices.SortFunc(list, func(a, b figure) int { return int(a.took - b.took) })
		mid := list[len(list)/2]
		fmt.Fprintf(w, "%s\t%d\t%d ms\t%d to %d ms\n", n, mid.bytes/1000, mid.took.Milliseconds(), list[0].took.Milliseconds(), list[len(list)-1].took.Milliseconds())
	}
	return w.Flush()
}

// once goes through all places in a browser that has been nowhere yet. What a place brought before counts for it alone, as
// the browser keeps it.
func once(base string, note func(string, figure)) error {
	p, err := browser.Open(context.Background(), "about:blank")
	if err != nil {
		return err
	}
	defer p.Close()
	if err := p.Slow(line); err != nil {
		return err
	}
	measure := func(name string, goThere func() error, ready string) error {
		before, began := p.Received(), time.Now()
		if err := goThere(); err != nil {
			return err
		}
		if err := p.Until("document.querySelector('" + ready + "')"); err != nil {
			return err
		}
		took := time.Since(began)
		time.Sleep(600 * time.Millisecond) // what is still on its way, such as fonts
		note(name, figure{p.Received() - before, took})
		return nil
	}
	if err := measure("sign in", func() error { return p.Visit(base) }, "#email"); err != nil {
		return err
	}
	if err := p.SignIn(demo.People[0].Email, demo.Password); err != nil {
		return err
	}
	time.Sleep(time.Second)
	for _, l := range places {
		within := fmt.Sprintf("history.pushState({}, '', %q); dispatchEvent(new PopStateEvent('popstate')); true", l.path)
		if err := measure(l.name, func() error { _, err := browser.Eval[bool](p, within); return err }, l.ready); err != nil {
			return err
		}
	}
	return nil
}
