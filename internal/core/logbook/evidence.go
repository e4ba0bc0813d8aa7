package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/check"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/version"
)

// Evidence is one thing known of what a state needs.
type Evidence struct {
	Kind    check.Evidence
	At      time.Time
	Version string // "" where it says nothing of the version
	// Mods is nil where it says nothing of mods.
	Mods  []modlist.Needed
	Clean bool // it needs a game without mods
	Note  string
	// Parent is the state that this one descends from.
	Parent tree.Digest
	// Across tells what changed between the two unseen, so that nothing of it is known from the parent.
	Across Across
	// Reading is, of what a save says of itself, the digest of the description that it was read by, in hex; else "". There is one reading of a
	// state: a later one replaces it, also where it finds nothing.
	Reading string
}

// Says reports whether the evidence says anything: a reading that finds nothing does not.
func (e Evidence) Says() bool {
	return e.Version != "" || e.Mods != nil || e.Clean || !e.Parent.IsZero() || e.Note != ""
}

// Notes of evidence that a state was not written by the game here: it came from a download, or Ostrov changed what is in it. Nothing is
// inferred for such a state from what lies in the install.
const (
	Placed  = "placed"
	Altered = "altered"
)

// elsewhere reports whether evidence says that a state was not written by the game here.
func (e Evidence) elsewhere() bool { return e.Note == Placed || e.Note == Altered }

// Across is what changed in an install between two states of a save, without anyone seeing under which the later one was written.
type Across struct{ Version, Mods bool }

func (a Across) text() string {
	var words []string
	if a.Version {
		words = append(words, "version")
	}
	if a.Mods {
		words = append(words, "mods")
	}
	return strings.Join(words, " ")
}

// Add records evidence for a state, unless the same stands there already. What the save says of itself takes the place of what it said before.
func (l *Logbook) Add(ctx context.Context, digest tree.Digest, e Evidence) error {
	have, ok := l.recent[digest]
	if !ok {
		var err error
		if have, err = l.Evidence(ctx, digest); err != nil {
			return err
		}
	}
	mods, err := encodeMods(e.Mods)
	if err != nil {
		return err
	}
	if e.Kind == check.Written && !e.Says() && len(have) == 0 {
		return nil
	}
	for _, h := range have {
		old, err := encodeMods(h.Mods)
		if err != nil {
			return err
		}
		if h.Kind == e.Kind && h.Version == e.Version && old == mods && h.Clean == e.Clean && h.Note == e.Note && h.Parent == e.Parent && h.Across == e.Across && h.Reading == e.Reading {
			return nil
		}
	}
	if e.Kind == check.Written {
		if _, err := l.TakeBack(ctx, digest, e.Kind); err != nil {
			return err
		}
	}
	_, err = l.db.ExecContext(ctx, "INSERT INTO evidence (digest, kind, at, version, mods, clean, note, parent, across, reading) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		digest.String(), e.Kind, stamp(e.At), e.Version, mods, e.Clean, e.Note, e.Parent.String(), e.Across.text(), e.Reading)
	delete(l.recent, digest)
	return err
}

// TakeBack forgets what is known of a state by one kind of evidence, and reports how much that was. That it came from a download stays.
func (l *Logbook) TakeBack(ctx context.Context, digest tree.Digest, kind check.Evidence) (int, error) {
	done, err := l.db.ExecContext(ctx, "DELETE FROM evidence WHERE digest = ? AND kind = ? AND note != ?", digest.String(), kind, Placed)
	delete(l.recent, digest)
	if err != nil {
		return 0, err
	}
	n, err := done.RowsAffected()
	return int(n), err
}

func encodeMods(mods []modlist.Needed) (sql.NullString, error) {
	if mods == nil {
		return sql.NullString{}, nil
	}
	data, err := json.Marshal(mods)
	return sql.NullString{String: string(data), Valid: true}, err
}

// Evidence returns all that is known of a state, oldest first.
func (l *Logbook) Evidence(ctx context.Context, digest tree.Digest) ([]Evidence, error) {
	if l.evidence == nil {
		stmt, err := l.db.PrepareContext(ctx, "SELECT kind, at, version, mods, clean, note, parent, across, reading FROM evidence WHERE digest = ? ORDER BY id")
		if err != nil {
			return nil, err
		}
		l.evidence = stmt
	}
	rows, err := l.evidence.QueryContext(ctx, digest.String())
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Evidence
	for rows.Next() {
		var e Evidence
		var at, parent, across string
		var mods sql.NullString
		if err := rows.Scan(&e.Kind, &at, &e.Version, &mods, &e.Clean, &e.Note, &parent, &across, &e.Reading); err != nil {
			return nil, err
		}
		if e.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return nil, err
		}
		if mods.Valid {
			e.Mods = []modlist.Needed{}
			if err := json.Unmarshal([]byte(mods.String), &e.Mods); err != nil {
				return nil, err
			}
		}
		if e.Parent, err = tree.ParseDigest(parent); err != nil {
			return nil, err
		}
		e.Across = Across{strings.Contains(across, "version"), strings.Contains(across, "mods")}
		all = append(all, e)
	}
	return all, rows.Err()
}

// Needs is what a state needs, from the strongest evidence for the version and the strongest for the mods. Of equally strong evidence the
// later counts. What only an earlier state of the save is known to need counts as Descends.
type Needs struct {
	Version         string
	VersionEvidence check.Evidence
	Mods            []modlist.Needed
	Clean           bool
	ModsEvidence    check.Evidence
	// Across is what changed unseen since the former state: of that nothing can be inferred either.
	Across Across
	// Elsewhere tells that this very state was not written by the game here: it came from a download, or Ostrov changed what is in it.
	Elsewhere bool
}

// maxDescent bounds how many states back evidence is looked for.
const maxDescent = 500

// Needs adds up what is known of a state; fresh is what is known and not written down yet.
func (l *Logbook) Needs(ctx context.Context, digest tree.Digest, fresh ...Evidence) (Needs, error) {
	var n Needs
	var across Across
	reading := ""
	var brought []modlist.Needed // by parcels
	var named []modlist.Needed   // by the save, where it names mods of one kind only
	seen := map[tree.Digest]bool{}
	for depth := 0; depth < maxDescent && !digest.IsZero() && !seen[digest]; depth++ {
		seen[digest] = true
		all, err := l.Evidence(ctx, digest)
		if err != nil {
			return n, err
		}
		if depth == 0 {
			if l.recent == nil || len(l.recent) >= maxRecent {
				l.recent = map[tree.Digest][]Evidence{}
			}
			l.recent[digest] = slices.Clone(all)
			all = slices.DeleteFunc(all, func(e Evidence) bool { // the reading that is made just now takes its place
				return e.Kind == check.Written && slices.ContainsFunc(fresh, func(f Evidence) bool { return f.Kind == check.Written })
			})
			all = append(all, fresh...)
			for _, e := range all {
				if e.Kind == check.Written {
					reading = e.Reading
				}
				if e.Kind == check.Parcel {
					brought = append(brought, e.Mods...)
				}
			}
			n.Elsewhere = slices.ContainsFunc(all, Evidence.elsewhere)
		}
		digest = tree.Digest{}
		next := across
		for _, e := range all {
			kind := e.Kind
			if kind == check.Written && reading != "" && e.Reading != reading { // by another description
				continue
			}
			if kind == check.Inferred && slices.ContainsFunc(all, Evidence.elsewhere) {
				continue // it was taken for one that was written here
			}
			if depth > 0 {
				kind = check.Descends
			}
			if e.Version != "" && kind.Strength() >= n.VersionEvidence.Strength() && (depth == 0 || n.Version == "") && !across.Version {
				n.Version, n.VersionEvidence = e.Version, kind
			}
			if e.Kind == check.Written && ofOneKind(e.Mods) { // of the others it says nothing
				if depth == 0 {
					named = e.Mods
				}
				e.Mods = nil
			}
			if (e.Mods != nil || e.Clean) && kind.Strength() >= n.ModsEvidence.Strength() && (depth == 0 || n.ModsEvidence == "") && !across.Mods {
				n.mods(e, kind)
			}
			if !e.Parent.IsZero() {
				digest, next = e.Parent, Across{across.Version || e.Across.Version, across.Mods || e.Across.Mods}
			}
		}
		if across = next; depth == 0 {
			n.Across = across
		}
		if n.Version != "" && n.ModsEvidence != "" {
			break
		}
	}
	n.name(named)
	n.compareWith(brought)
	return n, nil
}

// ofOneKind reports whether all of some mods, and there are such, are named by a list of one kind of mod.
func ofOneKind(mods []modlist.Needed) bool {
	return len(mods) > 0 && !slices.ContainsFunc(mods, func(m modlist.Needed) bool { return m.Kind == "" })
}

// name adds mods that the save names itself to what else is known, where it is silent about the rest.
func (n *Needs) name(named []modlist.Needed) {
	if len(named) == 0 {
		return
	}
	n.Mods = slices.DeleteFunc(slices.Clone(n.Mods), func(m modlist.Needed) bool {
		return slices.ContainsFunc(named, func(by modlist.Needed) bool { return strings.EqualFold(by.ID, m.ID) })
	})
	n.Mods = append(n.Mods, named...)
}

// compareWith adds to the mods that are needed the digests that a parcel has of the same ones: what else is known of them has none.
func (n *Needs) compareWith(brought []modlist.Needed) {
	if len(brought) == 0 {
		return
	}
	n.Mods = slices.Clone(n.Mods)
	for i, m := range n.Mods {
		for _, b := range brought {
			if m.Digest.IsZero() && strings.EqualFold(m.ID, b.ID) && (m.Version == "" || m.Version == b.Version) {
				n.Mods[i].Digest = b.Digest
			}
		}
	}
}

// mods takes over what e says of mods. Statements add up: a player states one mod at a time.
func (n *Needs) mods(e Evidence, kind check.Evidence) {
	if kind != check.Stated || n.ModsEvidence != check.Stated || e.Clean || n.Clean {
		n.Mods, n.Clean, n.ModsEvidence = e.Mods, e.Clean, kind
		return
	}
	for _, m := range e.Mods {
		replaced := false
		for i := range n.Mods {
			if n.Mods[i].ID == m.ID {
				n.Mods[i], replaced = m, true
			}
		}
		if !replaced {
			n.Mods = append(n.Mods, m)
		}
	}
}

// ForCheck are the needs as package check compares them.
func (n Needs) ForCheck(ordered bool) check.Needs {
	c := check.Needs{Version: n.Version, VersionEvidence: n.VersionEvidence, Clean: n.Clean, ModsEvidence: n.ModsEvidence, Ordered: ordered,
		VersionChanged: n.Across.Version, ModsChanged: n.Across.Mods}
	for _, m := range n.Mods {
		if m.On {
			r, err := version.ParseRange(m.Range)
			if err != nil { // what is no range is compared as the version that it is
				m.Version = m.Range
			}
			need := check.Mod{ID: m.ID, Version: m.Version, Title: m.Title, Digest: m.Digest.String(), Doubtful: m.Doubtful, Range: r, OwnDigest: m.Own, In: m.From, Of: m.Kind}
			if m.Kind != "" {
				need.By = check.Written
			}
			c.Mods = append(c.Mods, need)
		}
	}
	return c
}
