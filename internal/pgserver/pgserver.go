// Package pgserver starts a private PostgreSQL from the programs that Debian's package installs, on
// loopback, for the demo and the tests.
package pgserver

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Options say where the server lives and how safe it is.
type Options struct {
	// Dir holds the data; it is made when missing and kept afterwards.
	Dir string
	// Quick turns off waiting for the disk. For tests only: a crash of the machine loses data.
	Quick bool
	// Port is where it listens; 0 takes one that is free.
	Port int
}

// Server is a running PostgreSQL.
type Server struct {
	URL  string // of the database "dorfbote", with its password
	dir  string
	port int
	lock *os.File // held while the folder is in use
	cmd  *exec.Cmd
	done chan error
}

// ErrMissing means that PostgreSQL is not installed.
var ErrMissing = errors.New("PostgreSQL is not installed; 'apt-get install postgresql' brings it")

// programs finds the newest installed server's folder of programs.
func programs() (string, error) {
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(dirs) == 0 {
		if path, err := exec.LookPath("postgres"); err == nil {
			return filepath.Dir(path), nil
		}
		return "", ErrMissing
	}
	version := func(p string) int {
		n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(p))))
		return n
	}
	sort.Slice(dirs, func(i, j int) bool { return version(dirs[i]) < version(dirs[j]) })
	return filepath.Dir(dirs[len(dirs)-1]), nil
}

// Start starts the server, after making its folder when that is new and after ending a server that
// an earlier, killed process left on it.
func Start(ctx context.Context, o Options) (*Server, error) {
	bin, err := programs()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	cred, err := credential()
	if err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	password, err := prepare(ctx, bin, dir, data, cred)
	if err != nil {
		return nil, err
	}
	lock, err := claim(dir)
	if err != nil {
		return nil, err
	}
	if err := sweep(data); err != nil {
		_ = lock.Close()
		return nil, err
	}
	port := o.Port
	if port == 0 {
		if port, err = freePort(); err != nil {
			return nil, err
		}
	}
	args := []string{"-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "shared_buffers=256MB", "-c", "max_connections=120", "-c", "max_wal_size=2GB", "-c", "log_min_messages=fatal",
		"-c", "wal_compression=on", "-c", "jit=off"}
	if o.Quick {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	s := &Server{dir: dir, port: port, lock: lock, done: make(chan error, 1)}
	logFile, err := os.OpenFile(filepath.Join(dir, "postgres.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	s.cmd = exec.Command(filepath.Join(bin, "postgres"), args...)
	s.cmd.Dir = dir
	s.cmd.Stdout, s.cmd.Stderr = logFile, logFile
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGINT, Credential: cred}
	started := make(chan error)
	go func() {
		// The signal at the parent's death follows the thread that started the child.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := s.cmd.Start()
		started <- err
		if err == nil {
			s.done <- s.cmd.Wait()
		}
		_ = logFile.Close()
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("starting PostgreSQL: %w", err)
	}
	s.URL = fmt.Sprintf("postgres://dorfbote:%s@127.0.0.1:%d/postgres?sslmode=disable", password, port)
	return s, s.ready(ctx, data)
}

// credential is the user to run as: PostgreSQL refuses to run as root.
func credential() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no user postgres to run it as: %w", err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

func prepare(ctx context.Context, bin, dir, data string, cred *syscall.Credential) (string, error) {
	secret := filepath.Join(dir, "password")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err == nil {
		kept, err := os.ReadFile(secret)
		return strings.TrimSpace(string(kept)), err
	}
	if err := os.RemoveAll(data); err != nil { // what a broken first start left
		return "", err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	raw := make([]byte, 16)
	_, _ = rand.Read(raw)
	password := hex.EncodeToString(raw)
	if err := os.WriteFile(secret, []byte(password+"\n"), 0o600); err != nil {
		return "", err
	}
	if cred != nil {
		for _, p := range []string{dir, secret} {
			if err := os.Chown(p, int(cred.Uid), int(cred.Gid)); err != nil {
				return "", err
			}
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", data, "-U", "dorfbote", "-A", "scram-sha-256",
		"--pwfile", secret, "--locale=C.UTF-8", "--encoding=UTF8", "--no-instructions")
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: cred}
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("making a database in %s: %w\n%s\nIf the folder cannot be reached by the user postgres, choose another with DORFBOTE_DATA", data, err, out)
	}
	return password, nil
}

// claim makes the folder this process's own for as long as it lives. The lock goes with the process,
// however it ends.
func claim(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "in-use"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("%s is in use by another Dorfbote; end that one first, or choose another folder with DORFBOTE_DATA", dir)
	}
	return f, nil
}

// sweep ends a server that is still running on the folder, and what a killed one has left of itself.
func sweep(data string) error {
	pidFile := filepath.Join(data, "postmaster.pid")
	raw, err := os.ReadFile(pidFile)
	if err != nil {
		return orphans(data)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(strings.SplitN(string(raw), "\n", 2)[0]))
	if err != nil || pid <= 1 {
		return os.Remove(pidFile)
	}
	cmdline, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if !strings.Contains(string(cmdline), data) { // it is gone, and the number may belong to something else by now
		if err := orphans(data); err != nil {
			return err
		}
		return os.Remove(pidFile)
	}
	for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGQUIT, syscall.SIGKILL} {
		_ = syscall.Kill(pid, sig)
		for range 50 {
			if syscall.Kill(pid, 0) != nil {
				_ = os.Remove(pidFile)
				return orphans(data)
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	return fmt.Errorf("a PostgreSQL with process id %d runs on %s and cannot be ended", pid, data)
}

// orphans waits for the processes of a server whose first one was killed: they end by themselves, and until they have,
// no other server may touch the folder.
func orphans(data string) error {
	for try := range 100 {
		list := processesIn(data)
		if len(list) == 0 {
			return nil
		}
		if try > 20 {
			for _, pid := range list {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	return fmt.Errorf("what is left of a killed PostgreSQL runs on %s and cannot be ended", data)
}

// processesIn lists the processes whose working directory is a folder, as that of every process of PostgreSQL is its data.
func processesIn(data string) (out []int) {
	folder, err := filepath.EvalSymlinks(data)
	if err != nil {
		return nil
	}
	links, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, l := range links {
		if at, err := os.Readlink(l); err == nil && at == folder {
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(l)))
			out = append(out, pid)
		}
	}
	return out
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (s *Server) ready(ctx context.Context, data string) error {
	deadline := time.After(60 * time.Second)
	for {
		raw, _ := os.ReadFile(filepath.Join(data, "postmaster.pid"))
		lines := strings.Split(string(raw), "\n")
		if len(lines) >= 8 && strings.TrimSpace(lines[7]) == "ready" && lines[0] == strconv.Itoa(s.cmd.Process.Pid) {
			return nil
		}
		select {
		case err := <-s.done:
			s.done <- err
			text, _ := os.ReadFile(filepath.Join(s.dir, "postgres.log"))
			return fmt.Errorf("PostgreSQL ended at its start: %w\n%s", err, text)
		case <-deadline:
			s.Stop()
			return errors.New("PostgreSQL was not ready within 60 seconds")
		case <-ctx.Done():
			s.Stop()
			return ctx.Err()
		case <-time.After(15 * time.Millisecond):
		}
	}
}

// Port is where the server listens on loopback.
func (s *Server) Port() int { return s.port }

// stopPatience is how long the server may take to end before it is told to more urgently.
const stopPatience = 3 * time.Second

// Stop ends the server: quickly, then more quickly, then at once.
func (s *Server) Stop() {
	defer s.lock.Close()
	for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGQUIT, syscall.SIGKILL} {
		_ = s.cmd.Process.Signal(sig)
		select {
		case err := <-s.done:
			s.done <- err
			return
		case <-time.After(stopPatience):
		}
	}
}

// What Kill kills.
const (
	KillAll        = iota // every process at once, as when the machine goes
	KillPostmaster        // the first process; the others notice and end
	KillBackend           // one that serves a connection; PostgreSQL then starts itself anew
)

// Kill ends processes of the server at once, for proofs that nothing is lost by it. After the first two the server is
// gone, and may be started again on the same folder and port.
func (s *Server) Kill(what int) {
	data := filepath.Join(s.dir, "data")
	var own []int
	for _, pid := range processesIn(data) {
		if pid != s.cmd.Process.Pid {
			own = append(own, pid)
		}
	}
	switch what {
	case KillBackend:
		for _, pid := range own {
			name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
			if strings.Contains(string(name), "127.0.0.1") {
				_ = syscall.Kill(pid, syscall.SIGKILL)
				return
			}
		}
		return
	case KillAll:
		_ = s.cmd.Process.Kill()
		for _, pid := range own {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	default:
		_ = s.cmd.Process.Kill()
	}
	err := <-s.done
	s.done <- err
	_ = s.lock.Close()
}

// Gone tells whether the server has ended.
func (s *Server) Gone() bool {
	select {
	case err := <-s.done:
		s.done <- err
		return true
	default:
		return false
	}
}
