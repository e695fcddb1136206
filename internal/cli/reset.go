package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
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
		Short: "Back to the start state",
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
			var all []resetReport
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
				r, err := reset.Do(c.Context(), f.scoped.Server, f.entry, o)
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
	c.MarkFlagsMutuallyExclusive("by", "to")
	c.MarkFlagsMutuallyExclusive("verify", "to")
	_ = c.RegisterFlagCompletionFunc("by",
		cobra.FixedCompletions([]string{"truncation", "rollback", "snapshot"}, cobra.ShellCompDirectiveNoFileComp))
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
		if way == "" {
			o.Way = engine.Way(f.database.Reset)
		}
	}
	if to != "" {
		snapshot, err := snapshotNamed(ctx, f, to)
		if err != nil {
			return o, err
		}
		o.To = snapshot.ID
	}
	return o, nil
}

func snapshotNamed(ctx context.Context, f found, name string) (engine.Entry, error) {
	all, err := f.scoped.Snapshots(ctx, f.entry)
	if err != nil {
		return engine.Entry{}, err
	}
	var known []string
	for _, e := range all {
		if e.Facts.Name == name {
			return e, nil
		}
		known = append(known, e.Facts.Name)
	}
	next := "hemzo snapshot COPY NAME makes one"
	if known != nil {
		next = "snapshots: " + strings.Join(known, ", ")
	}
	return engine.Entry{}, fault.New(fault.Usage, next, "the copy %q has no snapshot %q", f.entry.Facts.Name, name)
}

// resetText says in one line what a reset did.
func resetText(r *reset.Report, to string) string {
	where := "start state"
	if to != "" {
		where = "snapshot " + to
	}
	if r.Way == "" {
		return fmt.Sprintf("untouched, at its %s (%s)", where, span(r.Took))
	}
	text := fmt.Sprintf("back at its %s by %s", where, r.Way)
	switch {
	case r.Reconnect:
		text += ", replaced: clients must reconnect"
	case r.Pages > 0:
		text += fmt.Sprintf(", %s of %s", count(r.Pages, "page"), count(len(r.Tables), "table"))
	case len(r.Tables) > 0 || r.Why == "" && len(r.Dropped)+r.Sequences+len(r.Settings) == 0 && !r.Schema:
		var out, in int64
		for _, t := range r.Tables {
			out, in = out+t.Removed, in+t.PutBack
		}
		text += fmt.Sprintf(", %s: %s removed, %d put back", count(len(r.Tables), "table"), count(out, "row"), in)
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

func (a *app) snapshotCommand() *cobra.Command {
	var wait time.Duration
	force := false
	c := &cobra.Command{
		Use:   "snapshot COPY NAME",
		Short: "Keep the present state of a copy under a name",
		Long: "Snapshot keeps the whole present state of a copy; hemzo reset COPY --to NAME\nreturns to it any " +
			"number of times. Snapshots go with their copy.",
		Args: cobra.ExactArgs(2), ValidArgsFunction: a.copyNames,
		RunE: a.onCopy(func(c *cobra.Command, s *session, f found, args []string) error {
			e, err := s.snapshot(c.Context(), f, args[1], engine.Session{Wait: f.wait(wait), Force: force})
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(snapshotReport{e.Facts.Name, e.Size, e.Facts.Made})
			}
			if !a.quiet {
				a.say("%s: snapshot %s, %s", f.entry.Facts.Name, e.Facts.Name, size(e.Size))
			}
			return nil
		}),
	}
	waitFlag(c, &wait)
	c.Flags().BoolVar(&force, "force", false,
		"end the sessions of the copy that are in the way; they must connect again")
	return c
}

func (s *session) snapshot(ctx context.Context, f found, name string, session engine.Session) (engine.Entry, error) {
	if err := copies.CheckName(name); err != nil {
		return engine.Entry{}, err
	}
	all, err := f.scoped.Snapshots(ctx, f.entry)
	if err != nil {
		return engine.Entry{}, err
	}
	for _, e := range all {
		if e.Facts.Name == name {
			return e, fault.New(fault.Failed, "use another name", "the copy %q has a snapshot %q already",
				f.entry.Facts.Name, name)
		}
	}
	return reset.Snapshot(ctx, f.scoped.Server, f.entry, name, session)
}

func (a *app) advanceCommand() *cobra.Command {
	var flags takeFlags
	c := &cobra.Command{
		Use:   "advance COPY",
		Short: "Apply the steps that a copy made with --until lacks",
		Long: `Advance applies to a copy, with the rows it holds now, the steps that it
lacks: so a migration is tested on data. A reset returns to the state in
which the copy was taken.`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.copyNames,
		RunE: a.onCopy(func(c *cobra.Command, s *session, f found, args []string) error {
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
				return a.printJSON(applied)
			}
			if len(applied) == 0 {
				a.note("%s lacks no step up to there", f.entry.Facts.Name)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&flags.until, "until", "", "the last `STEP` to apply (default: all)")
	waitFlag(c, &flags.wait)
	return c
}
