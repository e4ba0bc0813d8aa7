package edit

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/game"
	"ostrov/internal/core/wrap"
)

// inText takes out what stands anywhere in a text.
func (s *stripper) inText(o *opened, r *game.Reference) error {
	if o.file.Form == "sqlite" {
		return fmt.Errorf("a database without a query in at %w", wrap.ErrNotWritable)
	}
	text, err := o.editor.Text()
	if err != nil {
		return err
	}
	met := s.mentions(text)
	respelled, err := s.respelled(o, r)
	if err != nil {
		return err
	}
	if r.Remove == "" {
		for _, m := range met {
			s.note(text[m.From:m.To])
			o.editor.ReplaceText(m, *r.Instead)
		}
		return nil
	}
	if met = append(met, respelled...); len(met) == 0 {
		return nil
	}
	slices.SortFunc(met, func(a, b doc.Node) int { return a.From - b.From })
	targets, err := holding(s.ctx, o.editor, r.Remove, met)
	if err != nil {
		return err
	}
	if r.Instead == nil {
		return s.take(o.editor, o, r, targets)
	}
	if err := s.noteParts(o.editor, targets); err != nil {
		return err
	}
	for _, t := range targets {
		o.editor.ReplaceText(t, *r.Instead)
	}
	return nil
}

// respelled finds the values of a text in which things of the mods stand that a search of the text does not find: spelled with escapes or entities. If
// they are to be replaced they are given another value at once.
func (s *stripper) respelled(o *opened, r *game.Reference) (found []doc.Node, err error) {
	var now []string
	err = o.editor.EachRespelled(s.ctx, func(n doc.Node, raw []byte, says string) error {
		if len(s.mentions([]byte(says))) > len(s.mentions(raw)) {
			found, now = append(found, n), append(now, says)
		}
		return nil
	})
	if err != nil || r.Remove != "" {
		return found, err
	}
	for i, n := range found {
		if n.To == n.From {
			return nil, fmt.Errorf("a name that is spelled with escapes %w", wrap.ErrNotWritable)
		}
		s.note([]byte(now[i]))
		text := []byte(now[i])
		for _, m := range slices.Backward(s.mentions(text)) {
			text = append(append(bytes.Clone(text[:m.From]), *r.Instead...), text[m.To:]...)
		}
		if err := o.editor.Set(n, string(text)); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// inValues takes out what stands inside of values: those that are wrapped, and those that are texts of their own.
func (s *stripper) inValues(o *opened, r *game.Reference) error {
	type change struct {
		at  doc.Node
		now []byte
	}
	var changes []change
	row := 0
	err := o.editor.EachValue(s.ctx, r.At, func(at doc.Node, value []byte) error {
		row++
		changed := false
		now, err := r.Layers.Rewrite(value, wrap.DefaultLimits, func(content []byte) ([]byte, error) {
			now, err := s.inside(content, r)
			changed = !bytes.Equal(now, content)
			return now, err
		})
		if err != nil {
			return fmt.Errorf("value %d: %w", row, err)
		}
		if changed {
			changes = append(changes, change{at, now})
		}
		return s.ctx.Err()
	})
	if err != nil {
		return err
	}
	for _, c := range changes {
		if o.file.Form == "sqlite" {
			err = o.editor.Replace(c.at, c.now)
		} else {
			err = o.editor.Set(c.at, string(c.now))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// inside is the content of a value without the things of the mods.
func (s *stripper) inside(content []byte, r *game.Reference) (now []byte, err error) {
	met := s.mentions(content)
	if len(met) == 0 {
		return content, nil
	}
	if r.Form != "" {
		e, err := doc.Spec{Form: r.Form}.Edit(s.ctx, bytes.NewReader(content))
		if err != nil {
			return nil, err
		}
		defer func() { err = errors.Join(err, e.Close()) }()
		if err := s.elements(e, nil, r, r.Each); err != nil {
			return nil, err
		}
		return e.Done(s.ctx)
	}
	if r.Remove != "" {
		return s.matches(content, r, met)
	}
	var out bytes.Buffer
	at := 0
	for _, m := range met {
		from, to := m.From, m.To
		head := ""
		if r.Length != "" {
			var ok bool
			if from, to, head, ok = counted(content, m, r.Length, len(*r.Instead)); !ok || from < at {
				continue // it is part of something else
			}
		}
		s.note(content[m.From:to])
		out.Write(content[at:from])
		out.WriteString(head + *r.Instead)
		at = to
	}
	out.Write(content[at:])
	return out.Bytes(), nil
}

// counted is an identifier with the number before it that says how long it is, and that number for another length. ok is false where none stands
// there that fits.
func counted(content []byte, m doc.Node, as string, length int) (from, to int, head string, ok bool) {
	size := map[string]int{"u8": 1, "u16": 2, "u32": 4}[strings.TrimRight(as, "lbe")]
	if from = m.From - size; size == 0 || from < 0 {
		return 0, 0, "", false
	}
	number := func(b []byte) int {
		n := 0
		for i := range b {
			if strings.HasSuffix(as, "le") {
				n |= int(b[i]) << (8 * i)
			} else {
				n = n<<8 | int(b[i])
			}
		}
		return n
	}
	to = m.From + number(content[from:m.From])
	if to < m.To || to > len(content) || to-m.From > 1024 {
		return 0, 0, "", false
	}
	var b [8]byte
	if strings.HasSuffix(as, "le") {
		binary.LittleEndian.PutUint64(b[:], uint64(length))
		return from, to, string(b[:size]), true
	}
	binary.BigEndian.PutUint64(b[:], uint64(length))
	return from, to, string(b[8-size:]), true
}

// matches takes out what a pattern matches around identifiers.
func (s *stripper) matches(content []byte, r *game.Reference, met []doc.Node) ([]byte, error) {
	re, err := regexp.Compile("(?m:" + r.Remove + ")")
	if err != nil {
		return nil, err
	}
	instead := ""
	if r.Instead != nil {
		instead = *r.Instead
	}
	var out bytes.Buffer
	at := 0
	for _, m := range re.FindAllIndex(content, -1) {
		var here []doc.Node
		for _, one := range met {
			if one.From >= m[0] && one.To <= m[1] {
				here = append(here, one)
			}
		}
		if len(here) == 0 {
			continue
		}
		s.note(content[m[0]:m[1]])
		out.Write(content[at:m[0]])
		out.WriteString(instead)
		at = m[1]
	}
	out.Write(content[at:])
	return out.Bytes(), nil
}
