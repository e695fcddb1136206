// Package copies hands out copies of templates, knows whose they are, and
// takes them away again.
package copies

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
	"hemzo/internal/place"
	"hemzo/internal/reset"
	"hemzo/internal/template"
)

// ScopedServer is one server as one scope sees it.
type ScopedServer struct {
	Server engine.Server
	Scope  engine.Scope
}

// Request asks for a copy.
type Request struct {
	Plan     *template.Plan
	Layer    int
	Name     string // "" for a name made up
	Worker   string // whose it is, part of a name made up; "" for none
	ID       string // on the server; "" for a new one
	Again    bool   // the copy of that name, back at its start state, if there is one
	Owner    engine.Owner
	Spare    bool // made beforehand
	Progress func(template.Event)
	Wait     time.Duration
}

// Taken is a copy handed out.
type Taken struct {
	Copy     engine.Entry
	Build    *template.Result
	Took     time.Duration // for the copy alone
	Replaced bool          // a copy of that name was made from other sources
	Again    bool          // it is the copy that was there
}

var nameRule = pattern.Lazy(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)

// CheckName checks a name that a user gives to a copy or a snapshot.
func CheckName(name string) error {
	const next = "letters, digits, '.', '_' and '-', at most 64, a letter or digit first"
	if len(name) > 64 {
		return fault.New(fault.Usage, next, "the name %q... is too long (%d characters)", name[:20], len(name))
	}
	if !nameRule().MatchString(name) {
		return fault.New(fault.Usage, next, "%q is not a name for a copy or a snapshot", name)
	}
	return nil
}

// Take hands out a copy, building its template first where that is missing.
func (s ScopedServer) Take(ctx context.Context, r Request) (*Taken, error) {
	if r.Name != "" {
		if err := CheckName(r.Name); err != nil {
			return nil, err
		}
		// Two takers of one name: the second sees the first's copy.
		unlock, err := s.Server.Lock(ctx, "name-"+s.nameHash(r.Name), nil)
		if err != nil {
			return nil, err
		}
		defer unlock()
	}
	taken := &Taken{}
	if r.Name != "" {
		there, err := s.named(ctx, r.Name)
		if err != nil {
			return nil, err
		}
		if there.ID != "" {
			done, err := s.again(ctx, r, there, taken)
			if err != nil || done {
				return taken, err
			}
		}
	}
	// A template may be swept away before its build is over, or its copy begun.
	for range mostTries {
		err := s.build(ctx, r, taken)
		if err == nil || !errors.Is(err, engine.ErrNotFound) {
			return taken, err
		}
	}
	return nil, fault.New(fault.Failed, "does something run  hemzo sweep --templates  all the time?",
		"the template of %s was removed %d times before it could be copied", r.Plan.Database.Name, mostTries)
}

// mostTries is how often a template that others remove is built again.
const mostTries = 20

// build makes the template where it is missing, and copies it.
func (s ScopedServer) build(ctx context.Context, r Request, taken *Taken) (err error) {
	if taken.Build, err = r.Plan.Build(ctx, s.Server, r.Layer, r.Progress); err != nil {
		return err
	}
	began := time.Now()
	taken.Copy, err = s.copy(ctx, r, taken.Build.Template)
	taken.Took = time.Since(began)
	return err
}

// again deals with a copy that has the name already; done reports that it is
// the one to hand out.
func (s ScopedServer) again(ctx context.Context, r Request, there engine.Entry, taken *Taken) (done bool, err error) {
	if !r.Again {
		return false, fault.New(fault.Failed,
			"hemzo take "+there.Facts.Database+" --as "+r.Name+" --again  hands out the same copy, at its start state; "+
				"hemzo drop "+r.Name+" removes it",
			"there is a copy %q of database %s already", r.Name, there.Facts.Database)
	}
	if s.Alive(ctx, there.Facts.Owner) && there.Facts.Owner.Process != r.Owner.Process {
		return false, fault.New(fault.Failed, "use another name", "the copy %q belongs to %s, which is still running",
			r.Name, OwnerWords(there.Facts.Owner))
	}
	if there.Facts.Fingerprint != r.Plan.Layers[r.Layer] || there.Facts.Database != r.Plan.Database.Name {
		taken.Replaced = true
		return false, s.remove(ctx, there)
	}
	if _, err := r.Plan.Build(ctx, s.Server, r.Layer, r.Progress); err != nil {
		return false, err
	}
	if _, err := reset.Do(ctx, s.Server, there,
		reset.Options{Way: engine.Way(r.Plan.Database.Reset), Keep: r.Plan.Database.Keep, Wait: r.Wait}); err != nil {
		return false, err
	}
	owner := s.byServerClock(ctx, r.Owner)
	if err := s.Server.UpdateFacts(ctx, there.ID, func(f *engine.Facts) { f.Owner = owner }); err != nil {
		return false, err
	}
	taken.Again = true
	taken.Copy, err = s.Server.Find(ctx, there.ID)
	return true, err
}

func (s ScopedServer) copy(ctx context.Context, r Request, from engine.Entry) (engine.Entry, error) {
	id, name := r.ID, r.Name
	if id == "" {
		id = engine.NewID(engine.Copy)
	}
	if name == "" {
		name = MadeUp(r.Plan.Database.Name, r.Worker)
	}
	facts := engine.Facts{
		Format: engine.Format, Database: r.Plan.Database.Name, Engine: r.Plan.Engine.Name(), Name: name, Scope: s.Scope,
		Role: r.Plan.Database.Role, Spare: r.Spare,
		Fingerprint: from.Facts.Fingerprint, Layer: r.Layer,
		Owner: s.byServerClock(ctx, r.Owner),
		Made:  time.Now().UTC().Truncate(time.Millisecond),
		Start: from.ID,
	}
	for i, step := range r.Plan.Steps[:r.Layer] {
		fact := engine.StepFact{Name: step.Name, Hash: step.Hash}
		if last := from.Facts.Steps; i >= r.Layer-len(last) {
			fact = last[i-r.Layer+len(last)]
		}
		facts.Steps = append(facts.Steps, fact)
	}
	if err := s.Server.Copy(ctx, from.ID, id, facts); err != nil {
		return engine.Entry{}, err
	}
	if err := s.checkNotSwept(ctx, from.ID); err != nil {
		return engine.Entry{}, errors.Join(err, s.Server.Drop(context.WithoutCancel(ctx), id))
	}
	if time.Since(from.Facts.Used) > time.Hour {
		// Only for the sweep of unused templates; a copy does not fail for it.
		now := place.Now(ctx, s.Server)
		_ = s.Server.UpdateFacts(ctx, from.ID, func(f *engine.Facts) { f.Used = now })
	}
	return s.Server.Find(ctx, id)
}

// processLimit is how long a copy stays at most on a server that other machines use, where a
// process keeps it that only its own machine can ask for.
const processLimit = 24 * time.Hour

// byServerClock is an owner whose end, if any, is told by the server's clock where other machines
// use it too.
func (s ScopedServer) byServerClock(ctx context.Context, o engine.Owner) engine.Owner {
	byProcess := o.Lock == "" && o.Process.PID != 0
	if o.Until.IsZero() && !byProcess {
		return o
	}
	now, shared, err := s.Server.Shared(ctx)
	switch {
	case err != nil || !shared:
	case !o.Until.IsZero():
		o.Until = now.Add(time.Until(o.Until))
	default:
		o.Until = now.Add(processLimit)
	}
	return o
}

// sweeping is the lock of who removes templates.
const sweeping = "sweep-templates"

// checkNotSwept fails with engine.ErrNotFound where a template that was just copied
// is being removed, when that is over. Whoever sweeps marks a template, and then
// looks whether a copy needs it: so either the copy is seen, or the mark is.
func (s ScopedServer) checkNotSwept(ctx context.Context, template string) error {
	e, err := s.Server.Find(ctx, template)
	if err != nil || !e.Facts.Swept {
		return err
	}
	unlock, err := s.Server.Lock(ctx, sweeping, nil)
	if err != nil {
		return err
	}
	defer unlock()
	// Still there, and marked: who marked it was killed.
	err = s.Server.UpdateFacts(ctx, template, func(f *engine.Facts) { f.Swept = false })
	if err != nil && !errors.Is(err, engine.ErrNotFound) {
		return err
	}
	return engine.ErrNotFound
}

// MadeUp is a name for a worker's copy of a database that no other is likely to
// have; worker may be "".
func MadeUp(database, worker string) string {
	const letters = "bcdfghjkmnpqrstvwxz23456789"
	b := make([]byte, 5)
	for i := range b {
		b[i] = letters[rand.IntN(len(letters))]
	}
	if worker != "" {
		worker = "-" + worker[:min(len(worker), 24)]
	}
	return database[:min(len(database), 32)] + worker + "-" + string(b)
}

func (s ScopedServer) nameHash(name string) string {
	sum := sha256.Sum256([]byte(s.Scope.Project + "\x00" + s.Scope.Run + "\x00" + name))
	return hex.EncodeToString(sum[:8])
}

// Mine reports whether something belongs to this scope.
func (s ScopedServer) Mine(e engine.Entry) bool { return e.Facts.Scope == s.Scope }

// Copies lists the copies of this scope that somebody has, the oldest first.
func (s ScopedServer) Copies(ctx context.Context) ([]engine.Entry, error) {
	all, err := s.Server.List(ctx, engine.Copy)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(e engine.Entry) bool { return !s.Mine(e) || e.Facts.Spare })
	slices.SortFunc(all, func(a, b engine.Entry) int { return a.Facts.Made.Compare(b.Facts.Made) })
	return all, nil
}

func (s ScopedServer) named(ctx context.Context, name string) (engine.Entry, error) {
	all, err := s.Copies(ctx)
	if err != nil {
		return engine.Entry{}, err
	}
	for _, e := range all {
		if e.Facts.Name == name {
			return e, nil
		}
	}
	return engine.Entry{}, nil
}

// Find finds a copy by its name, its number on the server, its URL or its file. An
// address that is no copy's is refused; a name that none has is wrong usage.
func (s ScopedServer) Find(ctx context.Context, which string) (engine.Entry, error) {
	all, err := s.Copies(ctx)
	if err != nil {
		return engine.Entry{}, err
	}
	for _, e := range all {
		if e.Facts.Name == which || e.ID == which {
			return e, nil
		}
	}
	if e, ok := s.reached(ctx, which); ok {
		return e, nil
	}
	if strings.ContainsAny(which, "/:") {
		return engine.Entry{}, fault.New(fault.Refused, "", "%s is not a copy that Hemzo made: it is left alone", which)
	}
	return engine.Entry{}, fault.New(fault.Usage, "copies: "+strings.Join(names(all), ", "),
		"there is no copy %q", which)
}

// reached finds a copy of any scope by the address it was handed out with.
func (s ScopedServer) reached(ctx context.Context, address string) (engine.Entry, bool) {
	host, path := whereabouts(address)
	id := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	at := func(e engine.Entry) bool {
		ownHost, ownPath := whereabouts(s.Server.Connection(e.ID, e.Facts).URL)
		return e.Kind == engine.Copy && (host == ownHost || host != "" && host == e.Facts.Through) && path == ownPath
	}
	if e, err := s.Server.Find(ctx, id); err == nil {
		return e, at(e)
	}
	// Where each copy has a server of its own its name is no part of its address.
	all, err := s.Server.List(ctx, engine.Copy)
	i := slices.IndexFunc(all, at)
	if err != nil || host == "" || i < 0 {
		return engine.Entry{}, false
	}
	return all[i], true
}

// whereabouts is what of a URL or a file name says where something is: the host
// with its port, and the path, free of links.
func whereabouts(address string) (host, path string) {
	path = address
	if u, err := url.Parse(address); err == nil && u.Scheme != "" {
		host, path = u.Host, u.Path+u.Opaque
	}
	if host != "" {
		return host, path
	}
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	return "", path
}

func names(all []engine.Entry) []string {
	out := make([]string, len(all))
	for i, e := range all {
		out[i] = e.Facts.Name
	}
	return out
}

// Snapshots lists the snapshots of a copy, the oldest first.
func (s ScopedServer) Snapshots(ctx context.Context, of engine.Entry) ([]engine.Entry, error) {
	all, err := s.Server.List(ctx, engine.Kept)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(e engine.Entry) bool { return e.Facts.Of != of.ID })
	slices.SortFunc(all, func(a, b engine.Entry) int { return a.Facts.Made.Compare(b.Facts.Made) })
	return all, nil
}

// Alive reports whether an owner still keeps what it owns.
func (s ScopedServer) Alive(ctx context.Context, o engine.Owner) bool {
	return place.OwnerAlive(ctx, s.Server, o)
}

// OwnerWords says whose a copy is.
func OwnerWords(o engine.Owner) string {
	switch {
	case o.Command != "":
		return o.Command
	case o.Process.PID != 0:
		return fmt.Sprintf("process %d", o.Process.PID)
	}
	return "another process"
}

// Drop removes a copy with its snapshots. One with a living owner is not
// removed unless force says so.
func (s ScopedServer) Drop(ctx context.Context, e engine.Entry, force bool) error {
	if !force && s.Alive(ctx, e.Facts.Owner) {
		return fault.New(fault.Refused, "--force drops it all the same",
			"the copy %q belongs to %s, which is still running", e.Facts.Name, OwnerWords(e.Facts.Owner))
	}
	return s.remove(ctx, e)
}

func (s ScopedServer) remove(ctx context.Context, e engine.Entry) error {
	snapshots, err := s.Snapshots(ctx, e)
	if err != nil {
		return err
	}
	for _, n := range append(snapshots, e) {
		if err := s.Server.Drop(ctx, n.ID); err != nil {
			return err
		}
	}
	return nil
}

// Sweep removes the copies whose owners are gone, of every project on this
// server, and what crashes left. With unused above zero it also removes
// templates of this project, or with everyone those of all, that were not
// copied for that long and that no copy needs. It returns what it removed.
func (s ScopedServer) Sweep(ctx context.Context, unused time.Duration, everyone bool) ([]engine.Entry, error) {
	if err := s.Server.Clear(ctx); err != nil {
		return nil, err
	}
	kinds := []engine.Kind{engine.Copy, engine.Kept}
	if unused > 0 {
		kinds = append(kinds, engine.Template)
	}
	all, err := s.Server.List(ctx, kinds...)
	if err != nil {
		return nil, err
	}
	var gone []engine.Entry
	needed := map[string]bool{}
	there := map[string]bool{}
	for _, e := range all {
		if e.Kind != engine.Copy || e.Newer {
			continue
		}
		if !e.Bad && !place.OwnerLost(ctx, s.Server, e.Facts.Owner) {
			if !e.Facts.Lost.IsZero() { // its connection was cut, and came back
				if err := s.Server.UpdateFacts(ctx, e.ID, func(f *engine.Facts) { f.Lost = time.Time{} }); err != nil {
					return gone, err
				}
			}
			needed[e.Facts.Start] = true
			there[e.ID] = true
			continue
		}
		if wait, err := s.mustWait(ctx, e); err != nil || wait {
			needed[e.Facts.Start] = true
			there[e.ID] = true
			if err != nil {
				return gone, err
			}
			continue
		}
		if err := s.remove(ctx, e); err != nil {
			return gone, err
		}
		gone = append(gone, e)
	}
	var old []engine.Entry
	now := place.Now(ctx, s.Server)
	for _, e := range all {
		orphan := e.Kind == engine.Kept && !there[e.Facts.Of] &&
			!slices.ContainsFunc(gone, func(g engine.Entry) bool { return g.ID == e.Facts.Of })
		if unused > 0 && (everyone || sameOwner(e.Facts.Scope, s.Scope)) && e.Kind == engine.Template && !e.Newer &&
			!needed[e.ID] && now.Sub(e.Facts.Used) >= unused {
			old = append(old, e)
		}
		if e.Newer || !orphan {
			continue
		}
		if gone, err = s.sweepOne(ctx, e, gone); err != nil {
			return gone, err
		}
	}
	return s.sweepTemplates(ctx, old, gone)
}

// sweepOne drops one and adds it to what is gone; another role's is for that one to
// sweep.
func (s ScopedServer) sweepOne(ctx context.Context, e engine.Entry, gone []engine.Entry) ([]engine.Entry, error) {
	err := s.Server.Drop(ctx, e.ID)
	if err != nil && fault.KindOf(err) == fault.Refused {
		return gone, nil
	}
	if err != nil {
		return gone, err
	}
	return append(gone, e), nil
}

// sweepTemplates drops templates, but for those that a copy needs which was made
// since they were found unused.
func (s ScopedServer) sweepTemplates(ctx context.Context, old, gone []engine.Entry) ([]engine.Entry, error) {
	if len(old) == 0 {
		return gone, nil
	}
	unlock, err := s.Server.Lock(ctx, sweeping, nil)
	if err != nil {
		return gone, err
	}
	defer unlock()
	marked := old[:0]
	for _, e := range old {
		err := s.Server.UpdateFacts(ctx, e.ID, func(f *engine.Facts) { f.Swept = true })
		// What cannot be marked is gone, or another role's; without facts that can be read
		// it is needed by none.
		if err == nil || e.Bad {
			marked = append(marked, e)
		}
	}
	all, err := s.Server.List(ctx, engine.Copy)
	if err != nil {
		return gone, err
	}
	needed := map[string]bool{}
	for _, e := range all {
		needed[e.Facts.Start] = true
	}
	for _, e := range marked {
		if needed[e.ID] {
			if err := s.Server.UpdateFacts(ctx, e.ID, func(f *engine.Facts) { f.Swept = false }); err != nil {
				return gone, err
			}
			continue
		}
		if gone, err = s.sweepOne(ctx, e, gone); err != nil {
			return gone, err
		}
	}
	return gone, nil
}

// sameOwner reports whether two scopes are one user's of one machine, for one
// project: runs of a CI system may differ.
func sameOwner(a, b engine.Scope) bool {
	return a.Machine == b.Machine && a.User == b.User && a.Project == b.Project
}

// SweepGuarded removes from a server what has lost its owner, and reports
// whether a copy, work or a client is left that needs the server. One that
// cannot be asked counts as needed.
func SweepGuarded(ctx context.Context, s engine.Server) (needed bool) {
	if _, err := (ScopedServer{Server: s}).Sweep(ctx, 0, false); err != nil {
		return true
	}
	all, err := s.List(ctx, engine.Copy, engine.Work)
	if err != nil {
		return true
	}
	for _, e := range all {
		if !e.Newer {
			return true
		}
	}
	clients, err := s.Clients(ctx, "")
	return err != nil || len(clients) > 0
}

// twice is how long a copy on a shared server has to be without its owner:
// a connection that was cut may come back.
const twice = 2 * time.Minute

// abandoned is from when on clients that are still connected to such a copy are nobody's: a
// server hears of a machine that lost its power, or its network, hours later.
const abandoned = 45 * time.Minute

// mustWait reports whether a copy that has lost its owner, or whose facts cannot
// be read, has to be looked at again later. One without facts may be anybody's:
// it mustWait as long as somebody is connected.
func (s ScopedServer) mustWait(ctx context.Context, e engine.Entry) (wait bool, err error) {
	now, shared, err := s.Server.Shared(ctx)
	if err != nil || !shared && !e.Bad {
		return false, err
	}
	if shared && e.Facts.Lost.IsZero() {
		return true, s.Server.UpdateFacts(ctx, e.ID, func(f *engine.Facts) { f.Lost = now })
	}
	if shared && now.Sub(e.Facts.Lost) < twice {
		return true, nil
	}
	if shared && now.Sub(e.Facts.Lost) >= abandoned {
		return false, nil
	}
	clients, err := s.Server.Clients(ctx, e.ID)
	return len(clients) > 0, err
}

// ScopeOf returns the scope of a project: this machine, this user, the real
// path of the project's folder, and in a CI system the run.
func ScopeOf(root string) engine.Scope {
	machine, _ := os.Hostname()
	return engine.Scope{Machine: machine, User: fmt.Sprint(os.Getuid()), Project: root, Run: ciRun()}
}

// ciRun returns what a CI system says of its run: HEMZO_RUN, or the variables
// by which such systems name one.
func ciRun() string {
	if v := os.Getenv("HEMZO_RUN"); v != "" || os.Getenv("CI") == "" {
		return v
	}
	var parts []string
	for _, name := range []string{"GITHUB_RUN_ID", "GITHUB_RUN_ATTEMPT", "CI_PIPELINE_ID", "CI_JOB_ID", "BUILD_TAG",
		"BUILD_ID"} {
		if v := os.Getenv(name); v != "" {
			parts = append(parts, v)
		}
	}
	return strings.Join(parts, "-")
}
