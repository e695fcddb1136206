package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/reset"
)

func (a *app) resetCommand() *cobra.Command {
	var (
		by, to  string
		wait    time.Duration
		inPlace bool
		force   bool
		verify  bool
	)
	c := &cobra.Command{
		Use:   "reset [COPY...]",
		Short: "Put copies back to their start state",
		Long: `Reset puts copies back to their start state: every row, reference rows
included, and every counter; the tables to keep stay as they are. What nobody
touched costs nearly nothing.`,
		ValidArgsFunction: a.copyNames,
		RunE: func(c *cobra.Command, args []string) error {
			way := engine.Way(by)
			if by != "" && way != engine.Truncation && way != engine.Rollback && way != engine.Snapshot {
				return fault.New(fault.Usage, "truncation, rollback or snapshot", "there is no reset by %q", by)
			}
			s, err := a.begin()
			if err != nil {
				return err
			}
			defer s.close()
			if len(args) == 0 {
				args = []string{""}
			}
			all := []resetReport{}
			differ := false
			for _, which := range args {
				f, err := s.find(c.Context(), which)
				if err != nil {
					return err
				}
				o, err := f.resetOptions(c.Context(), way, to, wait)
				if err != nil {
					return err
				}
				o.InPlace, o.Force = inPlace, force
				r, err := f.putBack(c.Context(), o, to, c.Flags().Changed("wait"), verify)
				if err != nil {
					return err
				}
				done := resetReport{Copy: f.entry.Facts.Name, Report: r}
				if verify {
					if done.Differences, err = reset.Verify(c.Context(), f.scoped.Server, f.entry, o.Keep,
						o.Wait); err != nil {
						return err
					}
				}
				all = append(all, done)
				differ = differ || len(done.Differences) > 0
				if !a.json && !a.quiet {
					a.say("%s: %s", f.entry.Facts.Name, resetText(r, to))
				}
				if verify && !a.json {
					a.showVerified(done)
				}
			}
			if a.json {
				if err := a.printJSON(all); err != nil {
					return err
				}
			}
			if differ {
				return exit(1)
			}
			return nil
		},
	}
	c.Flags().StringVar(&by, "by", "",
		"`WAY` to reset: truncation, rollback or snapshot (default: the project file's, else the cheapest)")
	c.Flags().StringVar(&to, "to", "", "to the `SNAPSHOT` of this name instead of the start state")
	c.Flags().BoolVar(&inPlace, "in-place", false,
		"fail rather than put another database in its place, which ends its clients' connections")
	c.Flags().BoolVar(&force, "force", false, "end the sessions that hold locks on what is to be put back")
	c.Flags().BoolVar(&verify, "verify", false, "compare all that the copy then holds with its start state")
	oneOf(c, "by", "to")
	oneOf(c, "verify", "to")
	_ = c.RegisterFlagCompletionFunc("to", a.snapshotNames)
	_ = c.RegisterFlagCompletionFunc("by", ways)
	waitFlag(c, &wait)
	return c
}

type resetReport struct {
	Copy string `json:"copy"`
	*reset.Report
	Differences []engine.Difference `json:"differences,omitempty"` // from its start state, where that was looked at
}

// showVerified says whether a copy holds what it is to hold.
func (a *app) showVerified(r resetReport) {
	p := a.paintFor(a.outTerm)
	if len(r.Differences) == 0 && !a.quiet {
		a.say("  %s", p.good("verified: every object, row and counter is as in its start state"))
	}
	for _, d := range r.Differences {
		a.say("  %s %s %s\n    the copy     %s\n    start state  %s", p.bad("differs"), d.Kind, d.Name,
			shorten(cmp.Or(d.Has, "none"), 100), shorten(cmp.Or(d.Wanted, "none"), 100))
	}
}

func (s *session) reset(ctx context.Context, f found, way engine.Way, to string, wait time.Duration) (*reset.Report,
	error) {
	o, err := f.resetOptions(ctx, way, to, wait)
	if err != nil {
		return nil, err
	}
	return reset.Do(ctx, f.scoped.Server, f.entry, o)
}

// resetOptions are those of the project file and of the flags.
func (f found) resetOptions(ctx context.Context, way engine.Way, to string, wait time.Duration) (reset.Options, error) {
	o := reset.Options{Way: way, Wait: f.wait(wait)}
	if f.database != nil {
		o.Keep = f.database.Keep
		// What runs are reset by rollback, and copies that are taken are not behind a gate.
		if own := engine.Way(f.database.Reset); way == "" && (own != engine.Rollback || !f.gates()) {
			o.Way = own
		}
	}
	if to != "" {
		snapshot, err := f.scoped.SnapshotNamed(ctx, f.entry, to)
		if err != nil {
			return o, err
		}
		o.To = snapshot.ID
	}
	return o, nil
}

// gates reports whether the engine resets copies of a run by rollback.
func (f found) gates() bool {
	e, err := all.Named(f.entry.Facts.Engine)
	return err == nil && e.Hosting().Gate != nil
}

// putBack resets a copy, by its owner where that alone can.
func (f found) putBack(ctx context.Context, o reset.Options, to string, waits, verify bool) (*reset.Report, error) {
	query := url.Values{}
	for name, value := range map[string]string{"by": string(o.Way), "to": to} {
		if value != "" {
			query.Set(name, value)
		}
	}
	for name, on := range map[string]bool{"in-place": o.InPlace, "force": o.Force} {
		if on {
			query.Set(name, "")
		}
	}
	if waits {
		query.Set("wait", o.Wait.String())
	}
	if !verify {
		done, err := f.throughOwner(ctx, "POST", "/reset", query)
		if !errors.Is(err, errNotThere) {
			if err != nil {
				return nil, err
			}
			return done.Reset, nil
		}
	}
	if err := f.standsAlone(ctx); err != nil {
		return nil, err
	}
	return reset.Do(ctx, f.scoped.Server, f.entry, o)
}

// resetText says in one line what a reset did.
func resetText(r *reset.Report, to string) string {
	where, from := "its start state", ""
	if to != "" {
		where, from = "snapshot "+to, " from snapshot "+to
	}
	if r.Way == "" {
		return fmt.Sprintf("untouched, at %s (%s)", where, span(r.Took))
	}
	text := "back at " + where
	switch {
	case r.Way == engine.Rollback:
		text = "rolled back to " + where
	case r.Reconnect:
		text = "replaced" + from + ": clients must connect again"
	case r.Pages > 0:
		text += fmt.Sprintf(", in place: %s of %s", count(r.Pages, "page"), count(len(r.Tables), "table"))
	case len(r.Tables) > 0 || r.Why == "" && len(r.Dropped)+r.Sequences+len(r.Settings) == 0 && !r.Schema:
		var out, in int64
		for _, t := range r.Tables {
			out, in = out+t.Removed, in+t.PutBack
		}
		if text += ", in place: "; out+in == 0 && len(r.Tables) > 0 {
			text += "no row differed in " + count(len(r.Tables), "table")
			break
		}
		row, table := units(r.Unit)
		text += fmt.Sprintf("%s removed, %d put back in %s", count(out, row), in, count(len(r.Tables), table))
	}
	if r.Sequences > 0 {
		text += ", " + count(r.Sequences, "counter")
	}
	if len(r.Dropped) > 0 {
		text += "; dropped what had been added: " + few(slices.Clone(r.Dropped), ", ")
	}
	if len(r.Settings) > 0 {
		text += "; put back " + few(slices.Clone(r.Settings), ", ")
	}
	if len(r.Stays) > 0 {
		text += "; not put back: " + strings.Join(r.Stays, ", ")
	}
	if len(r.Kept) > 0 {
		text += "; kept " + strings.Join(r.Kept, ", ")
	}
	if r.Why != "" {
		text += "; " + r.Why
	}
	return text + fmt.Sprintf(" (%s)", span(r.Took))
}

// units are what an engine's rows are called, and what holds them.
func units(unit string) (row, table string) {
	if unit == "" {
		return "row", "table"
	}
	return unit, "database"
}

func (a *app) snapshotCommand() *cobra.Command {
	var wait time.Duration
	var force, replace, drop bool
	c := &cobra.Command{
		Use:   "snapshot COPY NAME",
		Short: "Keep the present state of a copy under a name",
		Long: `Snapshot keeps the whole present state of a copy; hemzo reset COPY --to NAME
returns to it any number of times. Snapshots go with their copy, or by --drop.`,
		Args: cobra.ExactArgs(2), ValidArgsFunction: a.copyAndSnapshot,
		RunE: a.onCopy(func(c *cobra.Command, s *session, f found, args []string) error {
			if drop {
				return s.dropSnapshot(c.Context(), f, args[1])
			}
			if done, err := s.snapshotByOwner(c.Context(), f, args[1], replace, force); done || err != nil {
				return err
			}
			e, old, err := f.scoped.Snapshot(c.Context(), f.entry, args[1], replace,
				engine.Session{Wait: f.wait(wait), Force: force})
			if err != nil {
				return err
			}
			for _, replaced := range old {
				if err := f.scoped.Server.Drop(c.Context(), replaced.ID); err != nil {
					return err
				}
			}
			return s.saidSnapshot(f, e)
		}),
	}
	waitFlag(c, &wait)
	c.Flags().BoolVar(&force, "force", false,
		"end the sessions of the copy that are in the way; they must connect again")
	c.Flags().BoolVar(&replace, "replace", false, "in the place of a snapshot of that name, where there is one")
	c.Flags().BoolVar(&drop, "drop", false, "remove the snapshot of that name instead")
	oneOf(c, "replace", "drop")
	return c
}

// saidSnapshot says which snapshot was made.
func (a *app) saidSnapshot(f found, e engine.Entry) error {
	if a.json {
		return a.printJSON(snapshotReport{e.Facts.Name, e.Size, e.Facts.Made})
	}
	if !a.quiet {
		a.say("%s: snapshot %s, %s", f.entry.Facts.Name, e.Facts.Name, size(e.Size))
	}
	return nil
}

// snapshotByOwner has the run that resets a copy by rollback make a snapshot of it; done
// is false where the copy is no such one.
func (s *session) snapshotByOwner(ctx context.Context, f found, name string, replace, force bool) (done bool,
	err error) {
	query := url.Values{"as": {name}}
	for name, on := range map[string]bool{"replace": replace, "force": force} {
		if on {
			query.Set(name, "")
		}
	}
	_, err = f.throughOwner(ctx, "POST", "/snapshot", query)
	if errors.Is(err, errNotThere) {
		return false, f.standsAlone(ctx)
	}
	if err != nil {
		return false, err
	}
	e, err := f.scoped.SnapshotNamed(ctx, f.entry, name)
	if err != nil {
		return false, err
	}
	return true, s.saidSnapshot(f, e)
}

// dropSnapshot removes the snapshots of a name: there are two where replacing one was
// cut off.
func (s *session) dropSnapshot(ctx context.Context, f found, name string) error {
	e, err := f.scoped.SnapshotNamed(ctx, f.entry, name)
	for err == nil {
		if err = f.scoped.Server.Drop(ctx, e.ID); err != nil {
			return err
		}
		var more engine.Entry
		if more, err = f.scoped.SnapshotNamed(ctx, f.entry, name); err == nil {
			e = more
		}
	}
	if e.ID == "" || fault.KindOf(err) != fault.Usage {
		return err
	}
	if s.json {
		return s.printJSON(snapshotReport{e.Facts.Name, e.Size, e.Facts.Made})
	}
	if !s.quiet {
		s.say("%s: snapshot %s removed", f.entry.Facts.Name, name)
	}
	return nil
}

// appliedStep is a step that advance has applied.
type appliedStep struct {
	Step string              `json:"step"`
	Took engine.Milliseconds `json:"took_ms"`
}

func (a *app) advanceCommand() *cobra.Command {
	var flags takeFlags
	c := &cobra.Command{
		Use:   "advance COPY",
		Short: "Apply the steps that a copy made with --until lacks",
		Long: `Advance applies to a copy, with the rows it holds now, the steps that it
lacks: so a migration is tested on data. A reset returns to the state in
which the copy was taken.`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.oneCopy,
		RunE: a.onContents(func(c *cobra.Command, s *session, f found, args []string) error {
			if f.database == nil {
				return fault.New(fault.Usage, "", "the project file declares no database %q any more",
					f.entry.Facts.Database)
			}
			plan, err := s.plan(c.Context(), f.database)
			if err != nil {
				return err
			}
			to, err := flags.layer(plan)
			if err != nil {
				return err
			}
			applied, err := f.scoped.Advance(c.Context(), f.entry, plan, to, f.wait(flags.wait))
			for _, st := range applied {
				if !a.json && !a.quiet {
					a.say("%s: %s applied in %s", f.entry.Facts.Name, st.Name, span(st.Took))
				}
			}
			if err != nil {
				return err
			}
			if a.json {
				steps := []appliedStep{}
				for _, st := range applied {
					steps = append(steps, appliedStep{Step: st.Name, Took: engine.Milliseconds(st.Took)})
				}
				return a.printJSON(steps)
			}
			if len(applied) == 0 {
				a.note("%s has all steps up to there", f.entry.Facts.Name)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&flags.until, "until", "", "the last `STEP` to apply (default: all)")
	_ = c.RegisterFlagCompletionFunc("until", a.stepNames)
	waitFlag(c, &flags.wait)
	return c
}
