package edit

import (
	"errors"
	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/wrap"
)

// nothingLeft looks through all places again.
func (s *stripper) nothingLeft() error {
	for i := range s.Game.References {
		r := &s.Game.References[i]
		declared, has := s.Save.Kind.Files[r.In]
		if !has || r.Save != "" && r.Save != s.Save.Kind.ID {
			continue
		}
		for _, name := range s.places(declared) {
			left, err := s.left(r, declared, name)
			if err != nil {
				return s.failed(name, err)
			}
			if left != "" && !r.Removes() {
				return problem.Usage(problem.Advise("[references] lacks the word remove or instead there"), "the description does not say how %s is taken out of %s; nothing has been changed", left, r.In)
			}
			if left != "" {
				return problem.Usage(problem.Advise("[references] lacks another remove or instead for it"), "%s would still stand in %s: what the description says takes only a part out; nothing has been changed", left, r.In)
			}
		}
	}
	return nil
}

// left is an identifier of the mods that stands in a file, or "".
func (s *stripper) left(r *game.Reference, declared field.File, name string) (left string, err error) {
	note := func(value []byte) error {
		if found := s.mentions(value); len(found) > 0 && left == "" {
			left = string(value[found[0].From:found[0].To])
		}
		return nil
	}
	limits := wrap.Limits{Decoded: maxFile}
	if r.At != "" {
		err = doc.Values(s.ctx, s.now(), name, declared.Spec(), r.At, r.Layers.Layers, limits, note)
		return left, err
	}
	content, err := declared.Layers.ReadFile(s.now(), name, limits)
	if err != nil {
		return "", err
	}
	if err = note(content); err != nil || !doc.IsTree(declared.Form) {
		return left, err
	}
	d, err := doc.Open(s.ctx, s.now(), name, declared.Spec(), limits)
	if err != nil {
		return "", err
	}
	err = d.EachRespelled(s.ctx, func(_ doc.Node, _ []byte, says string) error { return note([]byte(says)) })
	return left, errors.Join(err, d.Close())
}
