package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dorfbote/internal/api"
	"dorfbote/internal/demo"
	"dorfbote/internal/pgserver"
	"dorfbote/internal/practice"
)

func demoCommand() *cobra.Command {
	o := demoOptions{}
	cmd := &cobra.Command{
		Use: "demo", Short: "Starts everything on this machine, with the demo world", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if o.pace < 0 {
				return fmt.Errorf("--pace %v: give 0 to stand still, or how many times as fast as real time", o.pace)
			}
			if err := o.run(cmd.Context()); err != nil {
				return inputError{err}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&o.data, "data", "", "where the data is kept (DORFBOTE_DATA)")
	cmd.Flags().StringVar(&o.addr, "addr", "", "where to listen (DORFBOTE_ADDR)")
	cmd.Flags().StringVar(&o.mailAddr, "mail-addr", "127.0.0.1:8472", "where the stand-in mailbox takes mail")
	cmd.Flags().StringVar(&o.practiceAddr, "practice-addr", "127.0.0.1:8471", "where the practice apps listen")
	cmd.Flags().Float64Var(&o.pace, "pace", 1, "how many times as fast as real time the demo world goes on; 0 stands still")
	cmd.Flags().StringVar(&o.moment, "moment", os.Getenv("DORFBOTE_MOMENT"), "the moment at which a new demo world stands, such as 2026-11-29T23:59 in its own zone; what happens there then happens now (DORFBOTE_MOMENT; now where nothing is said)")
	return cmd
}

type demoOptions struct {
	data, addr, practiceAddr, mailAddr string
	pace                               float64
	moment                             string
}

func (o demoOptions) run(ctx context.Context) error {
	s, _, err := readSettings()
	if err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
	if o.data == "" {
		o.data = dataDir(s.Data)
	}
	if o.addr == "" {
		o.addr = s.Addr
	}
	moment, err := demo.Moment(o.moment)
	if err != nil {
		return fmt.Errorf("--moment: %w", err)
	}
	began := time.Now()
	pg, err := pgserver.Keep(ctx, pgserver.Options{Dir: filepath.Join(o.data, "postgres")}, log)
	if err != nil {
		return err
	}
	defer pg.Stop()
	defer endWithin(ctx, pg.Abort)()
	ws, err := workspaceOf(demo.Zone, "en")
	if err != nil {
		return err
	}
	// The practice apps are on this machine, and the demo's tables in a folder of its own.
	s.AllowPrivate = strings.TrimPrefix(s.AllowPrivate+",127.0.0.0/8,::1/128", ",")
	if s.Data = o.data; s.Folder == "" {
		s.Folder = filepath.Join(o.data, "files")
	}
	if err := os.MkdirAll(s.Folder, 0o755); err != nil {
		return err
	}
	e, err := openEngine(ctx, s, pg.URL, ws, log)
	if err != nil {
		return err
	}
	defer e.Store.Close()
	if err := e.Store.Migrate(ctx); err != nil {
		return err
	}
	web, err := listenNear(o.addr)
	if err != nil {
		return err
	}
	apps, err := listenNear(o.practiceAddr)
	if err != nil {
		return err
	}
	letters, err := listenNear(o.mailAddr)
	if err != nil {
		return err
	}
	at := demo.Addresses{Server: "http://" + web.Addr().String(), Practice: "http://" + apps.Addr().String(), Mail: letters.Addr().String()}

	e.Env.Base = at.Server
	background, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	stand, err := practice.New(background, e.Store.DB, practice.DefaultOptions())
	if err != nil {
		return err
	}
	if err := demo.Fill(ctx, e, stand, at, moment, func(format string, args ...any) { fmt.Printf(format+"\n", args...) }); err != nil {
		return err
	}
	failed := make(chan error, 1)
	go func() { failed <- listen(ctx, apps, stand.Handler()) }()
	go func() {
		if err := stand.ServeMail(background, letters); err != nil {
			log.Warn("the stand-in mailbox ended", "error", err)
		}
	}()
	if err := e.Start(background); err != nil {
		return err
	}
	defer e.Stop()
	if o.pace > 0 {
		go func() {
			if err := stand.LiveOn(background, ws.Location(), at.Practice, o.pace); err != nil && background.Err() == nil {
				log.Warn("the demo world stands still", "error", err)
			}
		}()
	}
	fmt.Printf(`
  Dorfbote           %s
  Sign in as         %s, password %s
                     (or %s, %s)
  Practice apps      %s
  Ready after        %.1f s. Ctrl-C ends everything.

`, at.Server, demo.People[0].Email, demo.Password, demo.People[1].Email, demo.People[2].Email, at.Practice, time.Since(began).Seconds())
	err = serve(ctx, web, e, api.Options{Practice: at.Practice, PublicURL: at.Server})
	select {
	case appsErr := <-failed:
		if err == nil {
			err = appsErr
		}
	default:
	}
	return err
}

// listenNear listens at the address, or at a free port where that is taken.
func listenNear(addr string) (net.Listener, error) {
	l, err := net.Listen("tcp", addr)
	if err == nil {
		return l, nil
	}
	host, _, splitErr := net.SplitHostPort(addr)
	if splitErr != nil {
		return nil, err
	}
	return net.Listen("tcp", net.JoinHostPort(host, "0"))
}

// dataDir is where the demo's data goes: the folder asked for, else ./data, or a folder of the system's
// where ./data could not be reached by the user that PostgreSQL must run as.
func dataDir(asked string) string {
	if asked != "" {
		return asked
	}
	here, err := filepath.Abs("data")
	if err != nil || os.Geteuid() != 0 {
		return "data"
	}
	for dir := filepath.Dir(here); dir != "/"; dir = filepath.Dir(dir) {
		if st, err := os.Stat(dir); err != nil || st.Mode().Perm()&0o001 == 0 {
			return "/var/lib/dorfbote-demo"
		}
	}
	return here
}
