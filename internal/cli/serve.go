package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/vbauerster/mpb/v8"
	"golang.org/x/sync/errgroup"

	"hemzo/internal/control"
	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/handover"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/template"
)

// sources opens the servers of databases, side by side, for a Control.
func (s *session) sources(ctx context.Context, chosen []*project.Database, flags takeFlags, owner engine.Owner,
	box *mpb.Progress) ([]control.Source, error) {
	if err := chooseWay(chosen, flags.by); err != nil {
		return nil, err
	}
	s.forRun = true
	if err := s.enterInOrder(ctx, chosen, flags.lazy); err != nil {
		return nil, err
	}
	out := make([]control.Source, len(chosen))
	var group errgroup.Group
	for i, d := range chosen {
		group.Go(func() error {
			open := func(ctx context.Context) (copies.ScopedServer, engine.Owner, error) {
				scoped, err := s.scoped(ctx, d)
				o := owner
				if err == nil {
					o.Lock, _, err = scoped.Server.Own(ctx)
				}
				return scoped, o, err
			}
			lazy, err := s.lazy(d, flags.lazy || d.Lazy)
			if err != nil {
				return err
			}
			if lazy == nil {
				if _, _, err := open(ctx); err != nil {
					return err
				}
			}
			b := &building{app: s.app, name: d.Name, box: box}
			s.mu.Lock()
			s.builds = append(s.builds, b)
			s.mu.Unlock()
			out[i] = control.Source{
				Name: d.Name, Open: open, Lazy: lazy, Way: engine.Way(d.Reset), Keep: d.Keep,
				Wait: found{database: d}.wait(flags.wait), Spare: d.Spare, Opaque: opaque(d),
				Plan:  func(ctx context.Context) (*template.Plan, error) { return s.plan(ctx, d) },
				Layer: flags.layer, Progress: b.event,
			}
			return nil
		})
	}
	return out, group.Wait()
}

// enterInOrder opens the existing servers of a run one after the other, in the order of their
// URLs: two runs each of which has its place on one server, and waits for one on the other's,
// would wait for ever.
func (s *session) enterInOrder(ctx context.Context, chosen []*project.Database, lazy bool) error {
	all := slices.SortedStableFunc(slices.Values(chosen), func(a, b *project.Database) int {
		return strings.Compare(a.URL, b.URL)
	})
	for _, d := range all {
		if d.URL == "" || lazy || d.Lazy {
			continue
		}
		if _, err := s.scoped(ctx, d); err != nil {
			return err
		}
	}
	return nil
}

// chooseWay has the databases that know a way to reset use it; one at least does.
func chooseWay(chosen []*project.Database, by string) error {
	way := engine.Way(by)
	switch way {
	case "":
		return nil
	case engine.Truncation, engine.Rollback, engine.Snapshot:
	default:
		return fault.New(fault.Usage, "truncation, rollback or snapshot", "there is no reset by %q", by)
	}
	known := false
	for _, d := range chosen {
		e, err := all.Named(d.Engine)
		if err != nil || e.Language().Name == "" || way == engine.Rollback && e.Hosting().Gate == nil {
			continue
		}
		d.Reset, known = by, true
	}
	if !known {
		return fault.New(fault.Usage, "leave out --by", "none of these databases is reset by %s", by)
	}
	return nil
}

// opaque reports whether what a database holds can be neither read nor kept: it
// has no sources.
func opaque(d *project.Database) bool {
	e, err := all.Named(d.Engine)
	return err == nil && e.Language().Name == ""
}

// finish ends the work of a Control. What is on a server with a guard is the
// guard's to drop, as soon as this process has let go of it.
func (s *session) finish(ctx context.Context, k *control.Control, keep func(*control.Copy) bool) error {
	var left []engine.Server
	err := k.Close(ctx, func(scoped copies.ScopedServer, e engine.Entry) error {
		if place.Guarded(scoped.Server) {
			left = append(left, scoped.Server)
			return nil
		}
		return scoped.Drop(ctx, e, true)
	}, keep)
	s.close()
	if os.Getenv("CI") != "" {
		return err // the server is about to be ended, or is somebody else's too
	}
	for _, server := range left {
		place.SweepSoon(server)
	}
	return err
}

// lazy says how the copies of a database are made at need; nil where they
// are made at once: a file is, and what is on a server that runs already.
func (s *session) lazy(d *project.Database, wanted bool) (*control.Lazy, error) {
	e, err := all.Named(d.Engine)
	if err != nil {
		return nil, err
	}
	h := e.Hosting()
	foretold := h.Foretold
	gated := h.Gate != nil && engine.Way(d.Reset) == engine.Rollback
	if gated && len(d.Keep) > 0 {
		return nil, fault.New(fault.Usage, "use  reset: truncation, or leave out  keep:",
			"%s: tables are kept by truncation alone, not by rollback", d.Name)
	}
	wanted = wanted && !slices.Contains(d.Where, "existing") && foretold != nil && foretold.Connection != nil
	if foretold == nil || !gated && !wanted {
		return nil, nil
	}
	password, err := place.Password()
	if err != nil {
		return nil, err
	}
	spec := template.Spec(d)
	lazy := &control.Lazy{
		Ports: foretold.Ports(spec),
		Foretell: func(at map[int]string, id string) engine.Connection {
			return foretold.Connection(spec, engine.Endpoint{At: at, Password: password}, id,
				engine.Facts{Database: d.Name, Role: d.Role})
		},
		Move:   foretold.Move,
		Failed: s.failed,
		Now:    gated && !wanted,
		Remarked: func(m engine.Remark) {
			s.note("%s: %s", d.Name, m.Text)
			if m.Unfit {
				s.note("%s: such a test needs  reset: truncation, or $HEMZO_CONTROL/reset?next=truncation before it", d.Name)
			}
		},
		Made: func(scoped copies.ScopedServer, t *copies.Taken) {
			if gated && !wanted { // it is told with the others
				return
			}
			s.note("%s", readyWords(scoped, t, "copy in "+span(t.Took)))
		},
	}
	if gated {
		lazy.Gate = func(ctx context.Context, server engine.Server, id string, told engine.Connection) (engine.Gate,
			error) {
			return h.Gate(ctx, place.Inner(server), id, told, template.SessionOf(d, d.Wait))
		}
	}
	return lazy, nil
}

// forms renders the connections of copies for the endpoint.
func (s *session) forms(chosen []*control.Copy, form string) (string, error) {
	var texts []string
	for _, x := range chosen {
		text, err := handover.Form(s.project, handedBy(x), form)
		if err != nil {
			return "", err
		}
		texts = append(texts, text)
	}
	return strings.Join(texts, "\n"), nil
}

func (a *app) serveCommand() *cobra.Command {
	var flags takeFlags
	var names []string
	c := &cobra.Command{
		Use:   "serve",
		Short: "The control endpoint without a child command",
		Long: `Serve answers the requests that a suite sends between its tests, until it is
told to end (Ctrl-C, TERM): then its copies go. The endpoint's address is
printed on stdout, for HEMZO_CONTROL. With listen: in the project file the
address stays the same from one start to the next.`,
		Args: cobra.NoArgs,
		RunE: a.inProject(func(c *cobra.Command, s *session, _ []string) (err error) {
			ctx := c.Context()
			chosen, err := s.project.Choose(names...)
			if err != nil {
				return err
			}
			box := a.bars(ctx)
			sources, err := s.sources(ctx, chosen, flags, engine.Owner{Command: "hemzo serve"}, box)
			if err != nil {
				return err
			}
			k := control.New(sources)
			last := context.WithoutCancel(ctx)
			defer func() {
				err = errors.Join(err, s.finish(last, k, nil))
			}()
			address, secret, err := s.address()
			if err != nil {
				return err
			}
			private, err := socket()
			if err != nil {
				return err
			}
			endpoint, err := control.Listen(k, address, private, secret, s.forms)
			if err != nil {
				return err
			}
			defer endpoint.Close()
			if a.json {
				if err := a.printJSON(map[string]string{"control": endpoint.URL, "socket": private}); err != nil {
					return err
				}
			} else {
				a.say("%s", endpoint.URL)
			}
			<-ctx.Done()
			return nil
		}),
	}
	c.Flags().StringSliceVar(&names, "database", nil, "a `DATABASE` to serve (default: all that are declared)")
	flags.add(a, c)
	flags.lazyFlag(c)
	_ = c.RegisterFlagCompletionFunc("database", a.databaseNames)
	return c
}

// socket is the path of this process's private socket, "" where there can be
// none.
func socket() (string, error) {
	state, err := place.StateFolder()
	if err != nil {
		return "", err
	}
	return control.Socket(socketFolder(state))
}

// socketFolder holds the private sockets of this user's processes.
func socketFolder(state string) string { return filepath.Join(state, "control") }

// address is where the endpoint listens, with its secret: where the project
// file fixes the address, the secret is kept too.
func (s *session) address() (address, secret string, err error) {
	if s.project.Listen == "" {
		return "127.0.0.1:0", "", nil
	}
	address = s.project.Listen
	if !strings.Contains(address, ":") {
		address = "127.0.0.1:" + address
	}
	state, err := place.StateFolder()
	if err != nil {
		return "", "", err
	}
	key, err := place.Secret(state, "control "+s.project.Root)
	return address, key, err
}

func (a *app) holdCommand() *cobra.Command {
	var wait time.Duration
	keep := 24 * time.Hour
	c := &cobra.Command{
		Use:   "hold COPY NAME",
		Short: "Set the copy aside as it is, a fresh one in its place",
		Long: `Hold keeps the copy as a test left it, under another name and for some time,
and puts the copy itself back at its start state. Sessions that are in the way
are ended. At most ten held copies of a project are kept.`,
		Args: cobra.ExactArgs(2), ValidArgsFunction: a.oneCopy,
		RunE: a.inProject(func(c *cobra.Command, s *session, args []string) error {
			if _, err := copies.SafeName(args[1]); err != nil {
				return err
			}
			if keep <= 0 {
				return fault.New(fault.Usage, "", "--for %s: above zero", keep)
			}
			// A running suite keeps its copies open: it does it itself.
			if at := os.Getenv("HEMZO_CONTROL"); at != "" {
				if err := s.holdByControl(c.Context(), at, args[0], args[1], keep); !errors.Is(err, errNotThere) {
					return err
				}
			}
			f, err := s.find(c.Context(), args[0])
			if err != nil {
				return err
			}
			done, err := f.throughOwner(c.Context(), "POST", "/hold", holdQuery(args[1], keep))
			if err == nil {
				return s.saidHeld(done.Held, keep)
			}
			if errors.Is(err, errNotThere) {
				err = f.standsAlone(c.Context())
			}
			if err != nil {
				return err
			}
			held, err := f.scoped.Hold(c.Context(), f.entry, args[1], keep,
				engine.Session{Wait: f.wait(wait), Force: true})
			if err != nil {
				return err
			}
			if _, err := s.reset(c.Context(), f, "", "", wait); err != nil {
				return err
			}
			return s.saidHeld(held.Facts.Name, keep)
		}),
	}
	waitFlag(c, &wait)
	c.Flags().Var(&spanFlag{&keep}, "for", "how long it stays (default 24h)")
	return c
}

func (a *app) saidHeld(name string, keep time.Duration) error {
	if a.json {
		return a.printJSON(map[string]any{"held": name, "until": time.Now().Add(keep).UTC().Truncate(time.Second)})
	}
	if !a.quiet {
		a.say("%s: held for %s; hemzo changes %s --rows, hemzo sql --on %s", name, span(keep), name, name)
	}
	return nil
}

var errNotThere = errors.New("not a copy of this run")

func holdQuery(name string, keep time.Duration) url.Values {
	return url.Values{"as": {name}, "for": {keep.String()}}
}

// holdByControl has a run hold a copy of its own.
func (s *session) holdByControl(ctx context.Context, at, which, name string, keep time.Duration) error {
	f, err := s.find(ctx, which)
	if err != nil {
		return err
	}
	done, err := askOwner(ctx, at, f, "POST", "/hold", holdQuery(name, keep))
	if err != nil {
		return err
	}
	return s.saidHeld(done.Held, keep)
}

// askOwner asks the endpoint of the run that a copy belongs to about that copy alone;
// errNotThere where it is not one of the run's.
func askOwner(ctx context.Context, at string, f found, method, path string, query url.Values) (*control.Done, error) {
	var status struct {
		Copies []struct{ Database, Copy string }
	}
	b, err := control.Ask(ctx, at, "GET", "/", nil)
	if err != nil || json.Unmarshal(b, &status) != nil {
		return nil, errNotThere
	}
	for _, x := range status.Copies {
		if x.Copy != f.entry.Facts.Name {
			continue
		}
		query.Set("database", x.Database)
		b, err := control.Ask(ctx, at, method, path, query)
		if err != nil {
			return nil, err
		}
		var done []control.Done
		if err := json.Unmarshal(b, &done); err != nil || len(done) != 1 {
			return nil, fmt.Errorf("reading the answer of the control endpoint: %q", b)
		}
		return &done[0], nil
	}
	return nil, errNotThere
}
