package manifest

import (
	"fmt"
	"slices"
	"strings"
)

// Entry is one name of a file that a manifest takes the place of.
type Entry struct {
	Variable  string
	Reference string // of the item that its value goes to
	Plain     bool   // its value is no secret
	Value     string // of a plain one
}

// Constant reports whether a variable is a constant somewhere in the manifest.
func (m *Manifest) Constant(variable string) bool {
	return slices.ContainsFunc(m.Constants, func(c Constant) bool { return c.Variable == variable })
}

// Adopt adds an environment with its drawer, and what its file has, without a change for the other environments: what only some of them
// have is only for those. It says what it did so with.
func (m *Manifest) Adopt(environment, drawer string, entries []Entry) (notes []string, err error) {
	if before := m.Drawers[environment]; before != "" && before != drawer {
		return nil, fmt.Errorf("the manifest has the drawer %s for %s already", before, environment)
	}
	others := slices.DeleteFunc(m.Environments(), func(name string) bool { return name == environment })
	isNew := m.Drawers[environment] == ""
	if m.Drawers == nil {
		m.Drawers = map[string]string{}
	}
	m.Drawers[environment] = drawer
	has := map[string]Entry{}
	for _, e := range entries {
		has[e.Variable] = e
	}
	if isNew && len(others) > 0 {
		m.leaveTo(others, has, func(variable string) {
			notes = append(notes, fmt.Sprintf("%s is not in this file, and stays for %s only", variable, strings.Join(others, ", ")))
		})
	}
	for _, e := range entries {
		if e.Plain {
			m.addConstant(environment, others, e)
		} else if m.addNeed(environment, others, e) {
			notes = append(notes, fmt.Sprintf("%s is for %s only: the files before did not have it", e.Variable, environment))
		}
	}
	for i := range m.Needs {
		m.Needs[i].Only = m.unlessAll(m.Needs[i].Only)
	}
	for i := range m.Constants {
		m.Constants[i].Only = m.unlessAll(m.Constants[i].Only)
	}
	return notes, nil
}

// leaveTo keeps what a new environment does not have for the others.
func (m *Manifest) leaveTo(others []string, has map[string]Entry, tell func(variable string)) {
	for i, n := range m.Needs {
		e, found := has[n.Variable]
		if n.Variable != "" && n.File == "" && len(n.Only) == 0 && (!found || e.Plain) {
			m.Needs[i].Only = others
			tell(n.Variable)
		}
	}
	for i, c := range m.Constants {
		if len(c.Only) == 0 {
			m.Constants[i].Only = others // and of this one as well, when its value is the same
			if _, found := has[c.Variable]; !found {
				tell(c.Variable)
			}
		}
	}
}

// addConstant makes a variable a constant of an environment, replacing whatever it was there.
func (m *Manifest) addConstant(environment string, others []string, e Entry) {
	m.Needs = slices.DeleteFunc(m.Needs, func(n Need) bool {
		return n.Variable == e.Variable && n.File == "" && (len(others) == 0 || slices.Equal(n.Only, []string{environment}))
	})
	m.Constants = slices.DeleteFunc(m.Constants, func(c Constant) bool {
		return c.Variable == e.Variable && c.Value != e.Value && slices.Equal(c.Only, []string{environment})
	})
	for i, c := range m.Constants {
		if c.Variable == e.Variable && c.Value == e.Value {
			if len(c.Only) > 0 && !slices.Contains(c.Only, environment) {
				m.Constants[i].Only = append(slices.Clone(c.Only), environment)
			}
			return
		}
	}
	m.Constants = append(m.Constants, Constant{Variable: e.Variable, Value: e.Value, Only: onlyBeside(environment, others)})
}

// addNeed makes a variable one that an environment needs, and reports whether others do not.
func (m *Manifest) addNeed(environment string, others []string, e Entry) bool {
	for i, n := range m.Needs {
		if n.Variable != e.Variable {
			continue
		}
		if len(n.Only) > 0 && !slices.Contains(n.Only, environment) {
			m.Needs[i].Only = append(slices.Clone(n.Only), environment)
		}
		return false
	}
	m.Needs = append(m.Needs, Need{Variable: e.Variable, Reference: e.Reference, Only: onlyBeside(environment, others)})
	return len(others) > 0
}

// onlyBeside restricts something to an environment when there are others.
func onlyBeside(environment string, others []string) []string {
	if len(others) == 0 {
		return nil
	}
	return []string{environment}
}

// unlessAll is a list of environments, or nothing when it names all of them.
func (m *Manifest) unlessAll(only []string) []string {
	for name := range m.Drawers {
		if !slices.Contains(only, name) {
			return only
		}
	}
	return nil
}
