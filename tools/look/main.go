package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"dorfbote/internal/browser"
	"dorfbote/internal/demo"
)

func main() {
	p, err := browser.Open(context.Background(), "http://127.0.0.1:8470")
	check(err)
	defer p.Close()
	check(p.SignIn(demo.People[0].Email, demo.Password))
	for _, a := range os.Args[1:] {
		k, v, _ := strings.Cut(a, "=")
		switch k {
		case "go":
			check(p.Go(v))
		case "click":
			sel, text, _ := strings.Cut(v, "~")
			check(p.ClickText(sel, text))
		case "css":
			check(p.Click(v))
		case "fill":
			sel, text, _ := strings.Cut(v, "~")
			check(p.Fill(sel, text))
		case "choose":
			sel, text, _ := strings.Cut(v, "~")
			check(p.Choose(sel, text))
		case "wait":
			time.Sleep(1500 * time.Millisecond)
		case "eval":
			s, err := browser.Eval[string](p, "String("+v+")")
			check(err)
			fmt.Println(s)
		case "shot":
			time.Sleep(900 * time.Millisecond)
			png, err := p.Picture()
			check(err)
			check(os.WriteFile("/tmp/shots/"+v+".png", png, 0o644))
		}
	}
	for _, t := range p.Troubles() {
		fmt.Fprintln(os.Stderr, t)
	}
}

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
