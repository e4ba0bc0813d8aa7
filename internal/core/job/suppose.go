package job

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/unpack"
)

// Supposed is an install as it would be after changes that are not made.
type Supposed struct {
	Look    *Look    // as it is
	Changes []string // what is supposed, in words
	Version string
	Saves   []Outcome
	// Findings are those about the install that would be there then and are not now.
	Findings []check.Finding
}

// Outcome is what would become of one save.
type Outcome struct {
	Save     *SaveState
	Findings []check.Finding
	Verdict  check.Verdict
}

// Suppose judges every save of an install as it would be: after "drop:MOD", "add:FILE" or "version:V", all together.
func (s *Session) Suppose(ctx context.Context, l *Look, ifs []string) (*Supposed, error) {
	then := *l
	then.Mods.Mods = slices.Clone(l.Mods.Mods)
	then.Findings = nil
	sup := &Supposed{Look: l}
	for _, text := range ifs {
		what, arg, _ := strings.Cut(text, ":")
		var did string
		var err error
		switch {
		case arg == "":
			err = errIf(text)
		case what == "drop":
			did, err = then.drop(arg)
		case what == "add":
			did, err = s.supposeAdded(ctx, &then, arg)
		case what == "version":
			did, then.Version = fmt.Sprintf("at %s instead of %s", arg, l.Version), arg
		default:
			err = errIf(text)
		}
		if err != nil {
			return nil, err
		}
		sup.Changes = append(sup.Changes, did)
	}
	sup.Version = then.Version
	if !l.Install.Game.PerSaveMods() {
		then.togetherness()
	}
	for _, f := range then.Findings {
		if !slices.Contains(l.Findings, f) {
			sup.Findings = append(sup.Findings, f)
		}
	}
	for _, st := range l.Saves {
		o := Outcome{Save: st, Findings: then.judge(st.Kind, st.Facts, st.Needs, st.refs, st.Refs)}
		check.Sort(o.Findings)
		o.Verdict = check.Sum(o.Findings)
		sup.Saves = append(sup.Saves, o)
	}
	return sup, nil
}

func errIf(text string) error {
	return usage("--if drop:MOD, --if add:FILE or --if version:V", "%q is nothing that could be supposed", text)
}

// drop takes a mod out of the set.
func (l *Look) drop(id string) (string, error) {
	for i, m := range l.Mods.Mods {
		if !m.Kind.Base && (strings.EqualFold(m.ID, id) || strings.EqualFold(m.Name(), id)) {
			l.Mods.Mods = slices.Delete(l.Mods.Mods, i, i+1)
			return "without " + m.Name(), nil
		}
	}
	return "", usage("ostrov mods "+l.Called, "%s has no mod %q", l.Called, id)
}

// supposeAdded puts the mods of a download into the set, in place of those of the same id.
func (s *Session) supposeAdded(ctx context.Context, l *Look, file string) (did string, err error) {
	d, err := unpack.Open(ctx, file, s.scratch())
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	if err := d.Inspect(ctx, s.reading(d)); err != nil {
		return "", err
	}
	found := mod.InDownload(ctx, l.Install.Game, d.FS, d.Entries)
	if len(found) == 0 {
		return "", usage("ostrov vet "+Quoted(file), "%s holds no mod of %s", file, l.Install.Game.Title)
	}
	var words []string
	for _, m := range found {
		word := "with " + strings.TrimSpace(m.Name()+" "+m.Version)
		for i, old := range l.Mods.Mods {
			if strings.EqualFold(old.ID, m.ID) && !old.Kind.Base {
				m.Order = old.Order
				word += " instead of " + old.Version
				l.Mods.Mods = slices.Delete(l.Mods.Mods, i, i+1)
				break
			}
		}
		at := len(l.Mods.Mods)
		if m.Order > 0 { // it takes the place of the one before
			if i := slices.IndexFunc(l.Mods.Mods, func(o *mod.Mod) bool { return o.Order > m.Order || o.Order == 0 }); i >= 0 {
				at = i
			}
		}
		l.Mods.Mods = slices.Insert(l.Mods.Mods, at, m)
		words = append(words, word)
	}
	return strings.Join(words, ", "), nil
}

// scratch is a folder for what has to be unpacked to be read.
func (s *Session) scratch() string {
	dir := filepath.Join(s.Home, "scratch")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return os.TempDir()
	}
	return dir
}
