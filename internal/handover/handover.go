// Package handover hands a copy's connection to those who need it: as one
// text, as environment variables, as files.
package handover

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/project"
)

// Copy is a copy to hand over.
type Copy struct {
	Database   string
	Name       string
	Connection engine.Connection
}

// values returns what the keys of a connection stand for.
func (c Copy) values() map[string]string {
	n := c.Connection
	values := map[string]string{
		"url": n.URL, "jdbc": n.JDBC, "jdbc_full": n.JDBCFull, "conninfo": n.ConnInfo, "host": n.Host, "port": n.Port,
		"user": n.User, "password": n.Password, "database": n.Database, "socket": n.Socket, "file": n.File,
		"params": n.Params, "copy": c.Name,
	}
	for port, at := range n.Ports {
		values["port_"+strconv.Itoa(port)] = at
	}
	return values
}

// Expand replaces {key} by the value for one copy's key, and {NAME.key} by
// the value for the copy of database NAME. All other braces stay.
func Expand(text string, own *Copy, all []Copy) string {
	return project.Placeholder().ReplaceAllStringFunc(text, func(use string) string {
		name, key, dotted := strings.Cut(strings.Trim(use, "{}"), ".")
		c := own
		if dotted {
			for i := range all {
				if all[i].Database == name {
					c = &all[i]
				}
			}
			if c == nil || c.Database != name {
				return use
			}
		} else {
			key = name
		}
		if c == nil {
			return use
		}
		if v, ok := c.values()[key]; ok {
			return v
		}
		return use
	})
}

// Environment returns the variables that a command gets for copies of a
// project's databases: those of the project file, and HEMZO_<NAME>_URL for
// each.
func Environment(p *project.Project, all []Copy) []engine.Setting {
	var env []engine.Setting
	for i, c := range all {
		if d := p.Database(c.Database); d != nil {
			for _, v := range d.Env {
				env = append(env, engine.Setting{Name: v.Name, Value: Expand(v.Value, &all[i], all)})
			}
		}
		name := "HEMZO_" + strings.ToUpper(strings.ReplaceAll(c.Database, "-", "_")) + "_URL"
		env = append(env, engine.Setting{Name: name, Value: c.Connection.URL})
	}
	for _, v := range p.Env {
		if value := Expand(v.Value, nil, all); !project.Placeholder().MatchString(value) {
			env = append(env, engine.Setting{Name: v.Name, Value: value})
		}
	}
	return env
}

// Forms are the names of the forms that Form knows.
var Forms = []string{"url", "jdbc", "conninfo", "file", "env", "engine-env", "dotenv", "json"}

// Form returns one copy's connection as text. form is one of Forms, or any
// text with {key} in it.
func Form(p *project.Project, c Copy, form string) (string, error) {
	switch form {
	case "", "url":
		return c.Connection.URL, nil
	case "jdbc", "conninfo", "file":
		return c.values()[form], nil
	case "env":
		return lines(Environment(p, []Copy{c}),
			func(s engine.Setting) string { return "export " + s.Name + "=" + shell(s.Value) }), nil
	case "dotenv":
		return lines(Environment(p, []Copy{c}),
			func(s engine.Setting) string { return s.Name + "=" + quoted(s.Value) }), nil
	case "engine-env":
		if len(c.Connection.Env) == 0 {
			return "", fault.New(fault.Usage, "use  --form env", "the programs of this engine read no variables")
		}
		return lines(c.Connection.Env,
			func(s engine.Setting) string { return "export " + s.Name + "=" + shell(s.Value) }), nil
	case "json":
		b, err := json.Marshal(c.values())
		return string(b), err
	}
	if err := CheckForm(form, c); err != nil {
		return "", err
	}
	return Expand(form, &c, nil), nil
}

// CheckForm reports what is wrong with a form before there is a copy: c has
// the keys that there will be.
func CheckForm(form string, c Copy) error {
	if form == "" || slices.Contains(Forms, form) {
		return nil
	}
	for _, m := range project.Placeholder().FindAllStringSubmatch(form, -1) {
		if _, ok := c.values()[m[1]]; !ok {
			return fault.New(fault.Usage, "keys: "+keys(c), "the form %q: there is no %s", form, m[0])
		}
	}
	if !strings.Contains(form, "{") {
		return fault.New(fault.Usage, "forms: "+strings.Join(Forms, ", ")+", or a text with {key} in it",
			"there is no form %q", form)
	}
	return nil
}

func keys(c Copy) string {
	var all []string
	for k := range c.values() {
		all = append(all, k)
	}
	sort.Strings(all)
	return strings.Join(all, ", ")
}

func lines(settings []engine.Setting, line func(engine.Setting) string) string {
	all := make([]string, len(settings))
	for i, s := range settings {
		all[i] = line(s)
	}
	return strings.Join(all, "\n")
}

// shell quotes a text for a POSIX shell.
func shell(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// quoted quotes a text for a dotenv file.
func quoted(s string) string {
	if !strings.ContainsAny(s, " \t\n\"'#$\\`") {
		return s
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "$", `\$`, "`", "\\`").Replace(s) + `"`
}

// List puts variables over an environment in the form of os.Environ.
func List(environ []string, over []engine.Setting) []string {
	out := make([]string, 0, len(environ)+len(over))
	set := map[string]bool{}
	for _, s := range over {
		set[s.Name] = true
	}
	for _, e := range environ {
		if name, _, _ := strings.Cut(e, "="); !set[name] {
			out = append(out, e)
		}
	}
	for _, s := range over {
		out = append(out, fmt.Sprintf("%s=%s", s.Name, s.Value))
	}
	return out
}
