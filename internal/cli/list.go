package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	engines "hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/place"
	"hemzo/internal/project"
)

func (a *app) listCommand() *cobra.Command {
	var at where
	c := &cobra.Command{
		Use:   "list",
		Short: "Servers, templates, copies",
		Long: `List shows the servers of the project's databases with what they hold. It starts
nothing and pulls nothing: a server that does not run is listed as such.`,
		Args: cobra.NoArgs,
		RunE: a.onServers(&at, place.Look, func(c *cobra.Command, scopedServers []copies.ScopedServer, s *session) error {
			everyone := at.everyone || len(scopedServers) > 0 && scopedServers[0].Scope.Project == ""
			all := []serverReport{}
			for _, scoped := range scopedServers {
				r, err := a.server(c.Context(), scoped, everyone)
				if err != nil {
					return err
				}
				all = append(all, r)
			}
			if s != nil && !at.everyone {
				all = append(all, s.notRunning(c.Context())...)
			}
			if a.json {
				return a.printJSON(all)
			}
			for _, r := range all {
				a.showServer(r, everyone)
			}
			if len(all) == 0 {
				a.say("no server runs")
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&at.everyone, "everyone", false, "those of all projects")
	at.serverFlag(c)
	return c
}

// notRunning reports the databases whose servers do not run.
func (s *session) notRunning(ctx context.Context) (all []serverReport) {
	for i := range s.project.Databases {
		d := &s.project.Databases[i]
		if _, err := s.running(ctx, d); errors.Is(err, place.ErrNotRunning) {
			r := serverReport{About: engine.About{Engine: d.Engine, Version: d.Version,
				Where: strings.Join(d.Where, " or ")}, Database: d.Name,
				Templates: []templateReport{}, Copies: []copyReport{}}
			if e, err := engines.Named(d.Engine); err == nil {
				r.Kept = len(place.KeptTemplates(e, s.wanted(d)))
			}
			all = append(all, r)
		}
	}
	return all
}

// where says on which servers a command works.
type where struct {
	url      string
	everyone bool
}

// serverFlag adds --server.
func (w *where) serverFlag(c *cobra.Command) {
	c.Flags().StringVar(&w.url, "server", "", "the server at a `URL`, whatever a project file says; none is needed")
}

// onServers is a command's work on the servers of the project; with --everyone, and
// without a project file, on all that run for this user; or on the one at a
// URL. Without a project the session is nil.
func (a *app) onServers(at *where, how opens,
	work func(c *cobra.Command, scopedServers []copies.ScopedServer, s *session) error) func(*cobra.Command,
	[]string) error {
	return func(c *cobra.Command, _ []string) error {
		if at.url != "" {
			scoped, err := a.scopedAt(c.Context(), at.url)
			if err != nil {
				return err
			}
			defer scoped.Server.Close()
			return work(c, []copies.ScopedServer{scoped}, nil)
		}
		s, err := a.begin()
		outside := errors.Is(err, project.ErrNone)
		if err != nil && !outside {
			return err
		}
		if s != nil {
			defer s.close()
		}
		var all []copies.ScopedServer
		var unreached error
		if outside || at.everyone {
			elsewhere, err := a.elsewhere(c.Context(), s)
			defer closeAll(elsewhere)
			if err != nil {
				return err
			}
			all = elsewhere
		}
		if s != nil {
			var own []copies.ScopedServer
			own, unreached = s.scopedServers(c.Context(), how)
			for _, scoped := range own {
				// What runs for this user is among the others already.
				if !at.everyone || scoped.Server.About().Where == "existing" {
					all = append(all, scoped)
				}
			}
		}
		// What can be reached is not kept waiting for what cannot.
		return errors.Join(work(c, all, s), unreached)
	}
}

// elsewhere opens all servers that run for this user.
func (a *app) elsewhere(ctx context.Context, s *session) (all []copies.ScopedServer, err error) {
	scope := copies.ScopeOf("")
	if s != nil {
		scope = s.scope
	}
	servers, err := place.Elsewhere(ctx, engines.Engines())
	for _, server := range servers {
		all = append(all, copies.ScopedServer{Server: server, Scope: scope})
	}
	return all, err
}

func closeAll(all []copies.ScopedServer) {
	for _, scoped := range all {
		scoped.Server.Close()
	}
}

// scopedAt opens the server at a URL, as the project sees it where there is one.
// Whoever names a host here means it.
func (a *app) scopedAt(ctx context.Context, url string) (copies.ScopedServer, error) {
	e, err := engines.ForURL(url)
	if err != nil {
		return copies.ScopedServer{}, err
	}
	hosts, err := e.Hosting().Existing.Hosts(url)
	if err != nil {
		return copies.ScopedServer{}, err
	}
	server, err := place.Open(ctx, e,
		place.Wanted{Database: "--server", Where: []string{"existing"}, URL: url, AllowHosts: hosts,
			Say: func(text string) { a.note("%s", text) }})
	if err != nil {
		return copies.ScopedServer{}, err
	}
	scope := copies.ScopeOf("")
	if s, err := a.begin(); err == nil {
		scope = s.scope
		s.close()
	}
	return copies.ScopedServer{Server: server, Scope: scope}, nil
}

// everyoneNeeded refuses what has no project to be limited to.
func everyoneNeeded(scopedServers []copies.ScopedServer, everyone bool) error {
	if !everyone && len(scopedServers) > 0 && scopedServers[0].Scope.Project == "" {
		return fault.New(fault.Usage, "add --everyone, or go to the project's folder",
			"without a project file there is nothing of one's own on a server")
	}
	return nil
}

// serverReport is a server with what it holds, as it is shown.
type serverReport struct {
	engine.About
	Running   bool             `json:"running"`
	Database  string           `json:"database,omitempty"` // whose server it would be, where none runs
	Kept      int              `json:"kept,omitempty"`     // templates for the next one, likewise
	Templates []templateReport `json:"templates"`
	Copies    []copyReport     `json:"copies"`
	Spare     int              `json:"spare,omitempty"` // copies made beforehand
}

type templateReport struct {
	ID       string    `json:"id"`
	Database string    `json:"database"`
	Steps    int       `json:"steps"`
	LastStep string    `json:"last_step,omitempty"`
	Size     int64     `json:"size"`
	Made     time.Time `json:"made"`
	Used     time.Time `json:"used"`
	Project  string    `json:"project"`
}

func (a *app) server(ctx context.Context, scoped copies.ScopedServer, everyone bool) (serverReport, error) {
	r := serverReport{About: scoped.Server.About(), Running: true, Templates: []templateReport{}, Copies: []copyReport{}}
	all, err := scoped.Server.List(ctx)
	if err != nil {
		return r, err
	}
	slices.SortFunc(all, func(x, y engine.Entry) int { return x.Facts.Made.Compare(y.Facts.Made) })
	for _, e := range all {
		f := e.Facts
		if !everyone && (e.Kind == engine.Copy && !scoped.Mine(e) || e.Kind == engine.Template &&
			f.Scope.Project != scoped.Scope.Project) {
			continue
		}
		switch e.Kind {
		case engine.Template:
			if e, err := engines.Named(f.Engine); err == nil && e.Language().Name == "" {
				continue // it holds nothing
			}
			t := templateReport{ID: e.ID, Database: f.Database, Steps: f.Layer, Size: e.Size, Made: f.Made,
				Used: f.Used, Project: f.Scope.Project}
			if n := len(f.Steps); n > 0 {
				t.LastStep = f.Steps[n-1].Name
			}
			r.Templates = append(r.Templates, t)
		case engine.Copy:
			if f.Spare {
				r.Spare++
				continue
			}
			r.Copies = append(r.Copies, a.describe(ctx, scoped, e))
		}
	}
	return r, nil
}

func (a *app) showServer(r serverReport, everyone bool) {
	p := a.paintFor(a.outTerm)
	if !r.Running {
		kept := ""
		if r.Kept > 0 {
			kept = ", " + count(r.Kept, "template") + " kept for the next"
		}
		a.say("%s %s", p.strong(strings.TrimSpace(r.Engine+" "+r.Version)),
			p.dim(fmt.Sprintf("%s (%s): no server runs%s", placed(r.Where), r.Database, kept)))
		return
	}
	a.say("%s %s", p.strong(r.Engine+" "+r.Version), p.dim(placed(r.Where)+", "+r.Address))
	if len(r.Templates)+len(r.Copies) == 0 {
		a.say("  %s", p.dim("empty: hemzo take hands out the first copy"))
		return
	}
	a.showTemplates(r.Templates, everyone)
	if r.Spare > 0 {
		a.say("  %s", p.dim(count(r.Spare, "copy")+" made ahead"))
	}
	if len(r.Copies) > 0 {
		a.showCopies(r.Copies, everyone)
	}
}

// placed says where a server is.
func placed(where string) string {
	if where == "existing" {
		return "on an existing server"
	}
	return "in " + where
}

func (a *app) showTemplates(templates []templateReport, everyone bool) {
	p := a.paintFor(a.outTerm)
	g := &grid{right: map[int]bool{2: true}, drop: []int{4}, whole: map[int]bool{0: true, 2: true}}
	// Templates of one database are layers of one another: a line for each
	// database, with its newest and the rest counted.
	var order []string
	heads, counts, sizes := map[string]templateReport{}, map[string]int{}, map[string]int64{}
	for _, t := range templates {
		key := t.Project + "\x00" + t.Database
		if counts[key] == 0 {
			order = append(order, key)
		}
		counts[key]++
		sizes[key] += t.Size
		if old, ok := heads[key]; !ok || t.Steps >= old.Steps {
			heads[key] = t
		}
	}
	if len(order) > 0 {
		a.say("")
		g.add(p.dim("templates"), p.dim("database"), p.dim("size"), p.dim("highest layer"), p.dim("built"))
	}
	for _, key := range order {
		t := heads[key]
		name := t.Database
		if everyone {
			name += p.dim(" " + t.Project)
		}
		top := "no step"
		if t.Steps > 0 {
			top = fmt.Sprintf("%s (%s)", t.LastStep, count(t.Steps, "step"))
		}
		g.add(p.good(count(counts[key], "layer")), name, size(sizes[key]), top, p.dim(ago(t.Made)))
	}
	a.print(g, "  ")
}

func (a *app) showCopies(copies []copyReport, everyone bool) {
	p := a.paintFor(a.outTerm)
	a.say("")
	g := &grid{right: map[int]bool{2: true}, drop: []int{4, 2}, whole: map[int]bool{2: true}}
	g.add(p.dim("copies"), p.dim("database"), p.dim("size"), p.dim("kept until"), p.dim("taken"), "")
	for _, c := range copies {
		remark := ""
		switch {
		case c.Failed:
			remark = p.bad("kept: its command failed")
		case c.Held:
			remark = p.honey("held as a test left it")
		case c.Resetting:
			remark = p.bad("a reset was not finished")
		case len(c.Snapshots) > 0:
			remark = p.dim(count(len(c.Snapshots), "snapshot"))
		}
		name := c.Database
		if everyone {
			name += p.dim(" " + c.Project)
		}
		g.add(p.honey(c.Name), name, size(c.Size), c.Owner, p.dim(ago(c.Made)), remark)
	}
	a.print(g, "  ")
}

func (a *app) showCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "show [COPY]",
		Short: "All about one copy",
		Args:  cobra.MaximumNArgs(1), ValidArgsFunction: a.oneCopy,
		RunE: a.onCopy(func(c *cobra.Command, s *session, f found, args []string) error {
			r := a.describe(c.Context(), f.scoped, f.entry)
			if a.json {
				return a.printJSON(r)
			}
			p := a.paintFor(a.outTerm)
			a.say("%s %s", p.honey(r.Name), p.dim("a copy of "+r.Database+", "+r.Engine))
			g := &grid{}
			row := func(k, v string) {
				if v != "" {
					g.add(p.dim(k), v)
				}
			}
			row("url", r.Connection.URL)
			row("jdbc", r.Connection.JDBC)
			row("file", r.Connection.File)
			row("size", size(r.Size))
			row("state", fmt.Sprintf("%s, the last %s", count(r.Steps, "step"), r.LastStep))
			row("start state", r.Start)
			row("taken", ago(r.Made))
			row("kept until", r.Owner)
			row("project", r.Project)
			for _, n := range r.Snapshots {
				row("snapshot", fmt.Sprintf("%s, %s, %s", n.Name, size(n.Size), ago(n.Made)))
			}
			a.print(g, "  ")
			return nil
		}),
	}
}

func (a *app) dropCommand() *cobra.Command {
	var every, force, yes bool
	var at where
	c := &cobra.Command{
		Use:               "drop COPY... | --all",
		Short:             "Remove copies",
		ValidArgsFunction: a.copyNames,
		RunE: func(c *cobra.Command, args []string) error {
			if every == (len(args) > 0) || at.everyone && !every {
				return fault.New(fault.Usage, "usage: hemzo drop COPY... or hemzo drop --all",
					"name copies, or say --all")
			}
			return a.onServers(&at, place.Look,
				func(c *cobra.Command, scopedServers []copies.ScopedServer, s *session) error {
					var chosen []found
					var err error
					if every {
						chosen, err = everyCopy(c.Context(), scopedServers, at.everyone)
					} else {
						chosen, err = namedCopies(c.Context(), s, scopedServers, args)
					}
					if err == nil && at.everyone && !yes {
						err = a.confirm(fmt.Sprintf("drop %s of all projects?", count(len(chosen), "copy")))
					}
					if err != nil {
						return err
					}
					return a.drop(c.Context(), chosen, force, every)
				})(c, args)
		},
	}
	c.Flags().BoolVar(&every, "all", false, "all copies of this project")
	c.Flags().BoolVar(&at.everyone, "everyone", false, "with --all: those of all projects")
	c.Flags().BoolVar(&force, "force", false, "also those whose owner is still running")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	at.serverFlag(c)
	return c
}

// dropReport is what drop did.
type dropReport struct {
	Dropped []string    `json:"dropped"`
	InUse   []usedByWho `json:"in_use"`
}

type usedByWho struct {
	Copy string `json:"copy"`
	By   string `json:"by"`
}

// drop drops copies; with goOn those that are in use stay.
func (a *app) drop(ctx context.Context, chosen []found, force, goOn bool) error {
	r := dropReport{Dropped: []string{}, InUse: []usedByWho{}}
	for _, f := range chosen {
		if goOn && !force && f.scoped.Alive(ctx, f.entry.Facts.Owner) {
			r.InUse = append(r.InUse, usedByWho{f.entry.Facts.Name, copies.OwnerWords(f.entry.Facts.Owner)})
			continue
		}
		if err := f.scoped.Drop(ctx, f.entry, force); err != nil {
			return err
		}
		r.Dropped = append(r.Dropped, f.entry.Facts.Name)
	}
	text := count(len(r.Dropped), "copy") + " dropped"
	var by []string
	for _, u := range r.InUse {
		if !slices.Contains(by, u.By) {
			by = append(by, u.By)
		}
	}
	if len(by) > 0 {
		text += fmt.Sprintf(", %d in use by %s", len(r.InUse), few(by, ", "))
	}
	switch {
	case a.json:
		if err := a.printJSON(r); err != nil {
			return err
		}
	case !a.quiet && len(by) == 0:
		a.say("%s", text)
	}
	if len(by) > 0 {
		return fault.New(fault.Refused, "wait for it, or drop it all the same with --force", "%s", text)
	}
	return nil
}

// namedCopies finds the copies that a user means.
func namedCopies(ctx context.Context, s *session, scopedServers []copies.ScopedServer, names []string) (out []found,
	err error) {
	for _, name := range names {
		var f found
		if s != nil {
			f, err = s.find(ctx, name)
		} else {
			f.scoped = scopedServers[0]
			f.entry, err = f.scoped.Find(ctx, name)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// everyCopy lists the copies of this project, or with everyone of all.
func everyCopy(ctx context.Context, scopedServers []copies.ScopedServer, everyone bool) (out []found, err error) {
	if err := everyoneNeeded(scopedServers, everyone); err != nil {
		return nil, err
	}
	for _, scoped := range scopedServers {
		all, err := scoped.Server.List(ctx, engine.Copy)
		if err != nil {
			return nil, err
		}
		for _, e := range all {
			if !e.Newer && !e.Bad && (everyone || scoped.Mine(e)) {
				out = append(out, found{scoped: scoped, entry: e})
			}
		}
	}
	return out, nil
}

// confirm asks a question on a terminal; elsewhere --yes has to answer it.
func (a *app) confirm(question string) error {
	if !a.errTerm || !term.IsTerminal(int(a.in.Fd())) {
		return fault.New(fault.Refused, "add --yes", "%s nobody is here to answer", question)
	}
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	var answer string
	fmt.Fscanln(a.in, &answer)
	if strings.ToLower(answer) != "y" && strings.ToLower(answer) != "yes" {
		return fault.New(fault.Failed, "", "nothing was done")
	}
	return nil
}

func (a *app) sweepCommand() *cobra.Command {
	var (
		templates, yes bool
		at             where
		unused         time.Duration = 7 * 24 * time.Hour
	)
	c := &cobra.Command{
		Use:   "sweep",
		Short: "Remove whatever has lost its owner",
		Long: `Sweep removes copies whose owner is gone and what crashes left behind. With
--templates it also removes templates of this project that nobody copied for a
week (or for --unused) and that no copy needs; with --everyone those of all.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, args []string) error {
			how := place.Look
			if templates {
				how = place.Open // what is kept of a server that does not run has templates too
			}
			return a.onServers(&at, how,
				func(c *cobra.Command, scopedServers []copies.ScopedServer, s *session) error {
					if !templates {
						unused = 0
					} else if err := everyoneNeeded(scopedServers, at.everyone); err != nil {
						return err
					}
					if at.everyone && templates && !yes {
						if err := a.confirm("remove unused templates of all projects?"); err != nil {
							return err
						}
					}
					return a.sweep(c.Context(), scopedServers, s,
						max(unused, map[bool]time.Duration{true: 1}[templates]), at)
				})(c, args)
		},
	}
	c.Flags().BoolVar(&templates, "templates", false, "also templates unused for a while")
	c.Flags().Var(&spanFlag{&unused}, "unused", "with --templates: how long unused (default 7d)")
	c.Flags().BoolVar(&at.everyone, "everyone", false,
		"on all servers that run for you; with --templates those of all projects")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	at.serverFlag(c)
	return c
}

// sweep sweeps servers, and the containers of this user where it is not about
// one server. Opening the servers of a session has swept them a little already.
func (a *app) sweep(ctx context.Context, scopedServers []copies.ScopedServer, s *session, unused time.Duration,
	at where) error {
	var swept []engine.Entry
	for _, scoped := range scopedServers {
		removed, err := scoped.Sweep(ctx, unused, at.everyone)
		if err != nil {
			return err
		}
		swept = append(swept, removed...)
	}
	gone := []removedReport{}
	if at.url == "" {
		left, err := place.SweepContainers(ctx, unused > 0)
		if err != nil {
			return err
		}
		for _, name := range left {
			gone = append(gone, removedReport{Kind: "container", Name: name})
		}
	}
	if s != nil {
		swept = append(s.swept, swept...)
	}
	var bytes int64
	for _, e := range swept {
		gone = append(gone, removedReport{Kind: string(e.Kind), Name: nameOf(e), Size: e.Size})
		bytes += e.Size
	}
	if a.json {
		return a.printJSON(gone)
	}
	if !a.quiet {
		for _, g := range gone {
			a.say("removed %s %s", g.Kind, g.Name)
		}
		a.say("%s removed, %s", count(len(gone), "item"), size(bytes))
	}
	return nil
}

// removedReport is something that sweep has removed.
type removedReport struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	Size int64  `json:"size,omitempty"`
}

// nameOf is what a user knows something by.
func nameOf(e engine.Entry) string {
	if e.Facts.Name != "" {
		return e.Facts.Name
	}
	if n := len(e.Facts.Steps); n > 0 {
		return fmt.Sprintf("%s of %s at %s", e.ID, e.Facts.Database, e.Facts.Steps[n-1].Name)
	}
	return e.ID
}

// short writes a path below the home folder with ~.
func short(path string) string {
	if home, err := os.UserHomeDir(); err == nil {
		if rel, err := filepath.Rel(home, path); err == nil && !strings.HasPrefix(rel, "..") {
			return filepath.Join("~", rel)
		}
	}
	return path
}
