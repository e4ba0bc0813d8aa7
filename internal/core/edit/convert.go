package edit

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/doc"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/version"
)

// Converted is a save as another version of the game wants it.
type Converted struct {
	*Edited
	Chain []*game.Convert
	Did   []Did
}

// Did is a step of a conversion, and at how many places it did something; Left tells that it was left out on purpose.
type Did struct {
	ID       string `json:"id,omitempty"`
	Title    string `json:"title"`
	Places   int    `json:"places"`
	Left     bool   `json:"left,omitempty"`
	Optional bool   `json:"optional,omitempty"`
}

// Chain is the shortest way of conversions from the version of a save of a kind to another, none where it is of that version; the error says what
// there is.
func Chain(d *game.Description, kind *game.Save, from, to string) ([]*game.Convert, error) {
	type state struct {
		at    string
		chain []*game.Convert
	}
	var there []string
	seen := map[string]bool{from: true}
	for queue := []state{{from, nil}}; len(queue) > 0; queue = queue[1:] {
		now := queue[0]
		if now.at == to {
			return now.chain, nil
		}
		for i := range d.Converts {
			c := &d.Converts[i]
			if len(c.Steps) == 0 || c.Save != "" && c.Save != kind.ID || seen[c.To] {
				continue
			}
			r, err := version.ParseRange(c.From)
			if err != nil || !r.Holds(d.Order(), now.at) {
				continue
			}
			seen[c.To] = true
			there = append(there, c.To)
			queue = append(queue, state{c.To, append(slices.Clone(now.chain), c)})
		}
	}
	hint := problem.Advise("it needs a [[convert]] with steps")
	if len(there) > 0 {
		hint = problem.Advise("it can be converted to: %s", strings.Join(there, ", "))
	}
	return nil, problem.Usage(hint, "the description of %s does not say how a %s of %s is converted to %s; nothing has been changed", d.Title, kind.ID, from, to)
}

// Reaches is the version that a save of one version is to be converted to for a game of another: that one, or the latest from which on the rules of
// the game say that it loads; "" where there is none.
func Reaches(d *game.Description, kind *game.Save, from, have string) string {
	if _, err := Chain(d, kind, from, have); err == nil {
		return have
	}
	best := ""
	for _, c := range d.Converts {
		chain, err := Chain(d, kind, from, c.To)
		if err != nil || len(chain) == 0 {
			continue
		}
		found := check.Judge(check.Needs{Version: c.To}, check.Have{Version: have}, d.CheckRules(), d.Order())
		if verdict := check.Sum(found); verdict != check.Fit && verdict != check.Risky {
			continue
		}
		if best == "" || d.Order().Compare(c.To, best) == version.Newer {
			best = c.To
		}
	}
	return best
}

// ConvertTo changes a save to another version of the game, by the shortest way; without are the ids of optional steps that are left out.
func ConvertTo(ctx context.Context, src Source, to string, without []string) (c *Converted, err error) {
	w, err := beginWhole(ctx, src)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	from := src.Save.Facts.Version()
	if from == "" {
		from = src.Save.Needs.Version
	}
	if from == "" {
		return nil, problem.Usage(problem.Do("needs", src.Called).With("state", "version V"), "nobody knows which version %s is of; nothing has been changed", src.Called)
	}
	chain, err := Chain(src.Game, src.Save.Kind, from, to)
	if err != nil {
		return nil, err
	}
	if err := optional(chain, without); err != nil {
		return nil, err
	}
	c = &Converted{Chain: chain}
	for _, one := range chain {
		for i := range one.Steps {
			did, err := w.step(&one.Steps[i], without)
			if err != nil {
				return nil, w.failed(one.ID, err)
			}
			c.Did = append(c.Did, did)
		}
		if err := w.retitle(one); err != nil {
			return nil, err
		}
		says, err := w.says()
		if err != nil {
			return nil, err
		}
		if says.Version() != "" && says.Version() != one.To {
			return nil, problem.Usage(nil, "after %s it would say that it is of %s, not %s: a step is missing in the description; nothing has been changed", one.ID, says.Version(), one.To)
		}
	}
	c.Edited, err = w.edited()
	return c, err
}

// optional checks the ids of steps that are to be left out.
func optional(chain []*game.Convert, without []string) error {
	may := map[string]bool{}
	for _, c := range chain {
		for _, s := range c.Steps {
			if s.Optional {
				may[s.ID] = true
			}
		}
	}
	for _, id := range without {
		if may[id] {
			continue
		}
		hint := problem.Advise("all of its steps are needed")
		if len(may) > 0 {
			hint = problem.Advise("there are: %s", strings.Join(slices.Sorted(maps.Keys(may)), ", "))
		}
		return problem.Usage(hint, "there is no step %q that may be left out; nothing has been changed", id)
	}
	return nil
}

// step does one step in all files that it is about.
func (w *work) step(s *game.Step, without []string) (Did, error) {
	did := Did{ID: s.ID, Title: stepTitle(s), Optional: s.Optional}
	if s.Optional && slices.Contains(without, s.ID) {
		did.Left = true
		return did, nil
	}
	all, err := w.editors(s.In)
	if err != nil {
		return did, err
	}
	for _, o := range all {
		n, err := w.stepIn(o.editor, s)
		if did.Places += n; err != nil {
			return did, fmt.Errorf("%s: %w", did.Title, err)
		}
	}
	return did, w.finish()
}

// stepTitle is what a step does, in words.
func stepTitle(s *game.Step) string {
	switch {
	case s.Title != "":
		return s.Title
	case s.Set != "":
		return fmt.Sprintf("set %s to %s", s.Set, *s.Value)
	case s.Remove != "":
		return "remove " + s.Remove
	case s.Rename != "":
		return "rename " + s.Rename + " to " + s.To
	case s.Map != "":
		return "give " + s.Map + " other values"
	case s.CopyFrom != "":
		return "copy " + s.CopyFrom + " to " + s.To
	}
	return "put something into " + s.Insert
}

// stepIn does a step in one file and returns at how many places it did something.
func (w *work) stepIn(e *doc.Editor, s *game.Step) (n int, err error) {
	switch {
	case s.Set != "":
		at, err := e.Find(w.ctx, nil, s.Set, false)
		for _, one := range at {
			err = errors.Join(err, e.Set(one, *s.Value))
		}
		return len(at), err
	case s.Remove != "":
		gone, err := e.Find(w.ctx, nil, s.Remove, true)
		if err != nil || len(gone) == 0 {
			return 0, err
		}
		return len(gone), e.Remove(gone...)
	case s.Rename != "":
		at, err := e.Find(w.ctx, nil, s.Rename, true)
		for _, one := range at {
			err = errors.Join(err, e.Rename(one, s.To))
		}
		return len(at), err
	case s.Map != "":
		err := e.EachValue(w.ctx, s.Map, func(at doc.Node, value []byte) error {
			to, ok := s.Values[string(value)]
			if !ok {
				return nil
			}
			n++
			return e.Set(at, to)
		})
		return n, err
	case s.CopyFrom != "":
		from, err := e.Find(w.ctx, nil, s.CopyFrom, false)
		if err != nil || len(from) != 1 {
			return 0, err // what is not there is not copied
		}
		to, err := e.One(w.ctx, nil, s.To)
		if err != nil {
			return 0, err
		}
		value, ok, err := e.Value(from[0])
		if err != nil || !ok {
			return 0, err
		}
		return 1, e.Set(to, value)
	}
	at, err := e.Find(w.ctx, nil, s.Insert, true)
	for i := range at {
		err = errors.Join(err, e.Insert(&at[i], nil, []byte(s.Piece)))
	}
	return len(at), err
}

// retitle gives the save the title that a conversion says.
func (w *work) retitle(c *game.Convert) error {
	if c.NewTitle == "" {
		return nil
	}
	fields := w.Save.Kind.Field["title"]
	says, err := w.says()
	if err != nil {
		return err
	}
	title := strings.ReplaceAll(c.NewTitle, "{title}", says.Title())
	f, o, at, err := w.settable("title", "title", 0, fields)
	if err == nil {
		_, err = w.put("title", o, at, f, title)
	}
	return errors.Join(err, w.finish())
}
