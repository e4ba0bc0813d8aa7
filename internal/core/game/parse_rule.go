package game

import (
	"errors"
	"fmt"
	"slices"

	"ostrov/internal/core/check"
	"ostrov/internal/core/glob"
	"ostrov/internal/core/strict"
	"ostrov/internal/core/version"
)

// rule checks a rule and readies it. What can never act is an error: it would look as if something were said.
func (v validator) rule(at string, r *Rule) {
	c := check.Rule{On: check.Code(r.On), Mod: r.Mod, Kind: r.Kind, Is: r.Is, Affects: r.Affects, Effect: r.Effect, Instead: r.Instead, Says: check.Verdict(r.Says)}
	var err1, err2, err3, err4 error
	c.Relation, c.Save, err1 = relation("save", r.Save, v.d.Order())
	c.BuildRelation, c.Build, err2 = relation("build", r.Build, version.Order{})
	c.Game, err3 = rangeOf("game", r.Game, v.d.Order())
	c.Format, err4 = rangeOf("format", r.Format, version.Order{})
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		v.Errorf(at, "", "%v", err)
	}
	v.ruleAbout(at, r)
	v.ruleField(at, r, &c)
	if !slices.Contains([]string{"fit", "risky", "unfit"}, r.Says) {
		v.Errorf(at+".says", "", "%q is not fit, risky or unfit", r.Says)
	}
	if r.Says != "fit" && r.Effect == "" {
		v.Errorf(at, "", "a rule that does not say fit needs an effect: what the game does")
	}
	v.affects(at+".affects", r.Affects)
	if r.Unless != nil {
		c.UnlessMod = r.Unless.Mod
	}
	if r.Edition != "" {
		v.Defined(at+".edition", "edition", r.Edition, v.d.Editions)
	}
	v.cond(at+".if", r.If)
	if r.Convert != "" {
		var ids []string
		for i := range v.d.Converts {
			ids = append(ids, v.d.Converts[i].ID)
			if v.d.Converts[i].ID == r.Convert {
				c.ConvertTo, c.CanConvert = v.d.Converts[i].To, len(v.d.Converts[i].Steps) > 0
			}
		}
		v.Defined(at+".convert", "[[convert]]", r.Convert, ids)
	}
	v.d.rules = append(v.d.rules, c)
}

// relation reads what a rule says of a version: how it stands to the install's, or a range.
func relation(key, text string, order version.Order) (version.Relation, version.Range, error) {
	switch text {
	case "newer":
		return version.Newer, version.Range{}, nil
	case "older":
		return version.Older, version.Range{}, nil
	case "same":
		return version.Same, version.Range{}, nil
	}
	r, err := version.ParseRange(text)
	if err == nil {
		err = r.Check(order)
	}
	if near := strict.Nearest(text, []string{"newer", "older", "same"}); err != nil && near != "" {
		err = fmt.Errorf("%s = %q is neither newer, older, same nor a range; did you mean %q?", key, text, near)
	}
	return version.Unknown, r, err
}

// rangeOf reads a range that versions can be compared with.
func rangeOf(key, text string, order version.Order) (version.Range, error) {
	r, err := version.ParseRange(text)
	if err == nil {
		err = r.Check(order)
	}
	if err != nil {
		err = fmt.Errorf("%s = %q: %w", key, text, err)
	}
	return r, err
}

// modCodes are the findings that are about one mod, so that a rule on them may name mods.
var modCodes = []check.Code{check.ModMissing, check.ModOff, check.ModDiffers, check.ModAltered, check.ModExtra, check.ModElsewhere, check.ModTwice, check.RequirementMissing, check.ModsCollide}

// ruleable are the findings that a rule can be on: those that are judged by rules.
var ruleable = append([]check.Code{check.OrderDiffers, check.ModsUnknown, check.NeedsCleanGame}, modCodes...)

// ruleAbout checks that a rule is about one thing: a finding, with words that belong to it, or versions.
func (v validator) ruleAbout(at string, r *Rule) {
	versions := r.Save != "" || r.Game != "" || r.Format != "" || r.Build != "" || r.Field != nil
	if (r.On == "") == !versions {
		v.Errorf(at, "", "a rule is either on a finding or about versions of save and game")
		return
	}
	narrow := map[string]string{"mod": r.Mod, "kind": r.Kind, "affects": r.Affects, "is": r.Is}
	if r.On == "" {
		for _, key := range keys(narrow) {
			if narrow[key] != "" {
				v.Errorf(at+"."+key, "", "%s belongs to a rule on a finding about mods: on = \"mod-missing\"", key)
			}
		}
		return
	}
	code := check.Code(r.On)
	var names []string
	for _, c := range ruleable {
		names = append(names, string(c))
	}
	switch {
	case !check.Known(code):
		near := strict.Nearest(r.On, names)
		for missing, code := range map[string]string{"missing-mod": "mod-missing", "extra-mod": "mod-extra", "mod-version": "mod-differs", "version": "mod-differs", "order": "order-differs"} {
			if r.On == missing {
				near = code
			}
		}
		if near != "" {
			near = fmt.Sprintf("did you mean %q?", near)
		}
		v.Errorf(at+".on", near, "there is no finding %q", r.On)
	case !slices.Contains(ruleable, code):
		v.Errorf(at+".on", "", "no rule can be on %q: it is not about what a save needs; there are %v", r.On, names)
	case !slices.Contains(modCodes, code):
		for _, key := range keys(narrow) {
			if narrow[key] != "" {
				v.Errorf(at+"."+key, "", "%s says nothing of %q, which is not about one mod", key, r.On)
			}
		}
	}
	if r.Is != "" && (code != check.ModDiffers || !slices.Contains([]string{"older", "newer", "edited"}, r.Is)) {
		v.Errorf(at+".is", "", "is = older, newer or edited belongs to on = \"mod-differs\"")
	}
	if !glob.Valid(r.Mod) {
		v.Errorf(at+".mod", "", "%q is not a glob", r.Mod)
	}
	if r.Kind != "" {
		var kinds []string
		for _, m := range v.d.Mods {
			kinds = append(kinds, m.Names()...)
		}
		v.Defined(at+".kind", "[[mod]]", r.Kind, kinds)
	}
}

// ruleField readies what a rule says of a field of the save.
func (v validator) ruleField(at string, r *Rule, c *check.Rule) {
	var fields []string
	for _, s := range v.d.Saves {
		fields = append(fields, keys(s.Field)...)
	}
	needs := map[string]bool{"format": r.Format != "", "build": r.Build != ""}
	for _, id := range keys(needs) {
		if needs[id] && !slices.Contains(fields, id) {
			v.Errorf(at+"."+id, "", "no kind of save has a field %q, so that this can never match", id)
		}
	}
	if r.Field == nil {
		return
	}
	v.Defined(at+".field.id", "[save.field]", r.Field.ID, fields)
	c.Field, c.FieldIs = r.Field.ID, r.Field.Is
	var err error
	if c.FieldRange, err = rangeOf("is", r.Field.Is, version.Order{}); err != nil { // then it is a text
		c.FieldRange = version.Range{}
	}
	if r.Field.Is == "" {
		v.Errorf(at+".field", "", "field says an id and what it is: { id = \"script\", is = \"> 2\" }")
	}
}
