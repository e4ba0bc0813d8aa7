package mods

import (
	"path"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/game"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
)

// entries writes elements of the game's list of active mods, as the description says.
type entries struct {
	active *game.Active
	spec   doc.Spec
	known  func(id string) *mod.Mod // what an installed mod says of itself; nil for one that is not
	whole  bool                     // an element that changes is written anew, with nothing left of how it stood there
}

func errNoEntry() error {
	return problem.Usage(problem.Advise("add `entry` to [active] of the description, or switch the mod in the game"), "the description of the game does not say how the list of mods is written; nothing has been changed")
}

// turned is an element switched on or off; "" where one that is off is not in the list. What else stands in it, such as a remark, stays.
func (e entries) turned(it item, on bool) (string, error) {
	now, then := e.active.EntryOff, e.active.Entry
	if !on {
		now, then = then, now
	}
	if e.active.Entry == "" {
		return "", errNoEntry()
	}
	if then == "" {
		return "", nil
	}
	m := e.known(it.id)
	text := e.spell(then, it.id, m)
	if was := e.spell(now, it.id, m); was != "" && text != "" && !e.whole {
		if text, ok := swapped(it.text, was, text); ok {
			return text, nil
		}
	}
	if text == "" {
		return "", problem.Usage(problem.Advise("switch it in the game"), "the game's list of mods holds what only the mod %s says, and it is not there; nothing has been changed", it.id)
	}
	return text, nil
}

// swapped is a text in which what tells was from will is changed, at its beginning or its end; ok is false where it stands at neither.
func swapped(text, was, will string) (_ string, ok bool) {
	n := 0
	for n < min(len(was), len(will)) && was[n] == will[n] {
		n++
	}
	before, was, will := was[:n], was[n:], will[n:]
	n = 0
	for n < min(len(was), len(will)) && was[len(was)-1-n] == will[len(will)-1-n] {
		n++
	}
	behind, was, will := was[len(was)-n:], was[:len(was)-n], will[:len(will)-n]
	if rest, found := strings.CutPrefix(text, before+was); found && (was != "" || before != "" || strings.HasPrefix(rest, behind)) {
		return before + will + rest, true
	}
	if rest, found := strings.CutSuffix(text, was+behind); found && (was != "" || behind != "") {
		return rest + will + behind, true
	}
	return "", false
}

// spell is an element as the description writes it; "" where the mod does not say what stands in it. m may be nil.
func (e entries) spell(template, id string, m *mod.Mod) string {
	said := map[string]string{"id": id}
	if m != nil {
		said["title"], said["version"], said["folder"] = m.Title, m.Version, path.Base(m.Path)
		for name, value := range m.Fields {
			said["field:"+name] = value
		}
	}
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(template, "{")
		b.WriteString(before)
		if !found {
			return b.String()
		}
		name, behind, closed := strings.Cut(rest, "}")
		switch value, known := said[name]; {
		case closed && known:
			escaped, ok := e.spec.Escaped(value)
			if !ok {
				return ""
			}
			b.WriteString(escaped)
			template = behind
		case closed && isPlaceholder(name):
			return ""
		default: // a brace of the list's own
			b.WriteString("{")
			template = rest
		}
	}
}

func isPlaceholder(name string) bool {
	return name == "title" || name == "version" || name == "folder" || strings.HasPrefix(name, "field:")
}
