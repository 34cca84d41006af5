package script

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"dorfbote/internal/core/value"
)

// timeout is how long one run may take.
const timeout = 2 * time.Second

// Runner runs scripts in a child process of this very program, which is started when the first is run, and anew after one that went out of
// bounds. Its zero value is ready. It may be used by many goroutines; they take turns.
type Runner struct {
	mu    sync.Mutex
	child *exec.Cmd
	in    io.WriteCloser
	out   *bufio.Reader
}

// Run runs a script over the names that it sees, and gives its result.
func (r *Runner) Run(src string, names map[string]any) (any, error) {
	req := struct {
		Script string                     `json:"script"`
		Names  map[string]json.RawMessage `json:"names"`
	}{src, map[string]json.RawMessage{}}
	for name, v := range names {
		req.Names[name] = value.AppendJSON(nil, v)
	}
	raw, err := json.Marshal(req)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.start(); err != nil {
		return nil, fmt.Errorf("starting the process for scripts: %w", err)
	}
	line, err := r.ask(append(raw, '\n'))
	if err != nil {
		r.stop()
		return nil, err
	}
	var a answer
	if err := json.Unmarshal(line, &a); err != nil {
		r.stop()
		return nil, err
	}
	if a.Error != "" {
		return nil, errors.New(a.Error)
	}
	return value.ReadJSON(a.Value)
}

func (r *Runner) start() error {
	if r.child != nil {
		return nil
	}
	exe, err := os.Executable()
	if err != nil {
		exe = os.Args[0]
	}
	c := exec.Command(exe, command)
	c.Env = []string{"GOMAXPROCS=1", childEnv + "=1"} // nothing of this process's, which may hold secrets
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	in, err := c.StdinPipe()
	if err != nil {
		return err
	}
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	r.child, r.in, r.out = c, in, bufio.NewReaderSize(out, 1<<16)
	return nil
}

// childEnv and command together make a program that links this package the child, whatever it is otherwise: the
// server, a command, or a test.
const (
	childEnv = "DORFBOTE_SCRIPT_CHILD"
	command  = "run-scripts"
)

func init() {
	if os.Getenv(childEnv) == "" || len(os.Args) != 2 || os.Args[1] != command {
		return
	}
	if err := serve(os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0)
}

// ask sends one request and waits for the answer; a child that takes too long, or has died of its bounds, is an error.
func (r *Runner) ask(req []byte) ([]byte, error) {
	late := make(chan struct{})
	child := r.child
	timer := time.AfterFunc(timeout, func() { close(late); _ = child.Process.Kill() })
	defer timer.Stop()
	in := r.in
	go func() { _, _ = in.Write(req) }()
	line, err := r.out.ReadBytes('\n')
	select {
	case <-late:
		return nil, fmt.Errorf("the script took longer than %s", timeout)
	default:
	}
	if err != nil {
		return nil, fmt.Errorf("the script took more than %d MiB of memory", maxMemory>>20)
	}
	return line, nil
}

func (r *Runner) stop() {
	if r.child == nil {
		return
	}
	_ = r.in.Close()
	_ = r.child.Process.Kill()
	_ = r.child.Wait()
	r.child = nil
}

// Close ends the child.
func (r *Runner) Close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.stop()
}
