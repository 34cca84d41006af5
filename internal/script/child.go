// Package script runs the scripts of sheets: Starlark, in a process of their own with bounds on steps, time and
// memory. A script has no files, no network and no clock; it sees what the arrival has, and gives what it calls result.
package script

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime/debug"
	"slices"
	"strings"

	starjson "go.starlark.net/lib/json"
	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
	"golang.org/x/sys/unix"
)

// Bounds of one run.
const (
	MaxSteps  = 2_000_000
	maxMemory = 256 << 20
)

// request is one run, as it goes to the child; answer is what comes back. Each is one line of JSON.
type request struct {
	Script string                     `json:"script"`
	Names  map[string]json.RawMessage `json:"names"`
}

type answer struct {
	Value json.RawMessage `json:"value,omitempty"`
	Error string          `json:"error,omitempty"`
}

// serve is the child: it runs one script after the other until its input ends.
func serve(in io.Reader, out io.Writer) error {
	limit := unix.Rlimit{Cur: maxMemory, Max: maxMemory}
	if err := unix.Setrlimit(unix.RLIMIT_DATA, &limit); err != nil {
		return fmt.Errorf("bounding the memory: %w", err)
	}
	debug.SetMemoryLimit(maxMemory / 2)
	r := bufio.NewReaderSize(in, 1<<16)
	w := bufio.NewWriter(out)
	for {
		line, err := r.ReadBytes('\n')
		if err != nil {
			return nil
		}
		raw, _ := json.Marshal(run(line))
		if _, err := w.Write(append(raw, '\n')); err != nil {
			return err
		}
		if err := w.Flush(); err != nil {
			return err
		}
	}
}

func run(line []byte) answer {
	var req request
	if err := json.Unmarshal(line, &req); err != nil {
		return answer{Error: err.Error()}
	}
	v, err := eval(req)
	if err != nil {
		return answer{Error: words(err)}
	}
	return answer{Value: v}
}

// options are those of the language: no while and no recursion would keep out honest scripts, and the steps are
// bounded anyhow.
var options = &syntax.FileOptions{Set: true, While: true, TopLevelControl: true, GlobalReassign: true, Recursion: true}

func eval(req request) (json.RawMessage, error) {
	thread := &starlark.Thread{Name: "script", Print: func(*starlark.Thread, string) {}}
	thread.SetMaxExecutionSteps(MaxSteps)
	decode := starjson.Module.Members["decode"].(*starlark.Builtin)
	encode := starjson.Module.Members["encode"].(*starlark.Builtin)
	names := starlark.StringDict{"json": starjson.Module}
	for name, raw := range req.Names {
		v, err := starlark.Call(thread, decode, starlark.Tuple{starlark.String(raw)}, nil)
		if err != nil {
			return nil, fmt.Errorf("handing in %s: %w", name, err)
		}
		names[name] = v
	}
	globals, err := starlark.ExecFileOptions(options, thread, "script", req.Script, names)
	if err != nil {
		return nil, err
	}
	result, ok := globals["result"]
	if !ok {
		return nil, errors.New("the script sets nothing called result")
	}
	text, err := starlark.Call(thread, encode, starlark.Tuple{result}, nil)
	if err != nil {
		return nil, fmt.Errorf("result: %w", err)
	}
	s, _ := starlark.AsString(text)
	return json.RawMessage(s), nil
}

// words says what is wrong with its line, and without the interpreter's own frames.
func words(err error) string {
	msg := err.Error()
	ee := &starlark.EvalError{}
	if errors.As(err, &ee) {
		for _, v := range slices.Backward(ee.CallStack) {
			if pos := v.Pos; pos.Filename() == "script" && pos.Line > 0 {
				msg = fmt.Sprintf("line %d: %s", pos.Line, msg)
				break
			}
		}
	}
	if strings.Contains(msg, "too many steps") {
		return fmt.Sprintf("the script took more than %d steps", MaxSteps)
	}
	return strings.ReplaceAll(msg, "script:", "line ")
}
