// Package peers starts real services on loopback for tests: programs from Debian's packages, each with a folder and
// a port of its own, ended with the test. A test whose service cannot be had is skipped with a plain message.
package peers

import (
	"bytes"
	"context"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Find gives the path of a program, or skips the test where its package is missing.
func Find(t testing.TB, program, debian string) string {
	t.Helper()
	for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/sbin", "/usr/local/sbin", "/sbin") {
		if st, err := os.Stat(filepath.Join(dir, program)); err == nil && !st.IsDir() && st.Mode()&0o111 != 0 {
			return filepath.Join(dir, program)
		}
	}
	t.Skipf("%s is missing; install it with: apt-get install %s", program, debian)
	return ""
}

// Port gives a free port of this machine.
func Port(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// Local is the address of a port of this machine.
func Local(port int) string { return net.JoinHostPort("127.0.0.1", strconv.Itoa(port)) }

// Dir is a folder that every user of this machine may reach, since services give up root.
func Dir(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "dorfbote-peer-*")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// Write writes a file of a peer's folder and gives its path.
func Write(t testing.TB, dir, name, text string) string {
	t.Helper()
	path := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	return path
}

// Account finds a user of this machine to run as; nil where this process is not root and runs everything itself.
func Account(t testing.TB, name string) *syscall.Credential {
	t.Helper()
	if os.Geteuid() != 0 {
		return nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		t.Skipf("there is no user %s on this machine", name)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
}

// Own gives a folder to an account.
func Own(t testing.TB, dir string, c *syscall.Credential) {
	t.Helper()
	if c == nil {
		return
	}
	require.NoError(t, filepath.Walk(dir, func(path string, _ os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, int(c.Uid), int(c.Gid))
	}))
}

// Process is a service under way.
type Process struct {
	cmd  *exec.Cmd
	out  *output
	done chan struct{}
}

type output struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.String()
}

// Start starts a service and waits until its port answers.
func Start(t testing.TB, port int, as *syscall.Credential, env []string, name string, args ...string) *Process {
	t.Helper()
	p := &Process{cmd: exec.Command(name, args...), out: &output{}, done: make(chan struct{})}
	p.cmd.Stdout, p.cmd.Stderr = p.out, p.out
	p.cmd.Env = append(os.Environ(), env...)
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: as}
	require.NoError(t, p.cmd.Start())
	go func() { _ = p.cmd.Wait(); close(p.done) }()
	t.Cleanup(p.Stop)
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(30 * time.Millisecond) {
		if c, err := net.DialTimeout("tcp", Local(port), time.Second); err == nil {
			_ = c.Close()
			return p
		}
		select {
		case <-p.done:
			t.Fatalf("%s ended at once:\n%s", name, p.out)
		default:
		}
		if time.Now().After(deadline) {
			t.Fatalf("%s does not answer on port %d:\n%s", name, port, p.out)
		}
	}
}

// Stop ends the service and everything it has started.
func (p *Process) Stop() {
	_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGTERM)
	select {
	case <-p.done:
	case <-time.After(3 * time.Second):
		_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
		<-p.done
	}
}

// Run runs a program to its end.
func Run(t testing.TB, as *syscall.Credential, stdin, name string, args ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	cmd.Stdin = bytes.NewReader([]byte(stdin))
	raw, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s %v:\n%s", name, args, raw)
	return string(raw)
}
