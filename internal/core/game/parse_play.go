package game

import (
	"fmt"
	"regexp"
)

// play checks what concerns playing: log, starters and requirements.
func (v validator) play() {
	if l := v.d.Log; l != nil {
		v.Defined("log.in", "[file]", l.In, keys(v.d.Files))
		for _, p := range []struct {
			key, pattern, group string
			into                **regexp.Regexp
		}{{"loaded", l.Loaded, "id", &l.loaded}, {"failed", l.Failed, "id", &l.failed}, {"error", l.Error, "", &l.errors}, {"save", l.Save, "save", &l.save}, {"begins", l.Begins, "", &l.begins}} {
			re, err := regexp.Compile(p.pattern)
			switch {
			case err != nil:
				v.Errorf("log."+p.key, "", "not a pattern: %v", err)
			case p.pattern == "":
				continue
			case p.group != "" && re.SubexpIndex(p.group) < 0:
				v.Errorf("log."+p.key, "", "the pattern needs a group (?P<%s>…)", p.group)
			}
			*p.into = re
		}
	}
	var kinds []string
	for i := range v.d.Saves {
		kinds = append(kinds, v.d.Saves[i].ID)
	}
	for i, s := range v.d.Starters {
		for _, k := range s.Saves {
			v.Defined(fmt.Sprintf("starter.%d.saves", i), "[[save]]", k, kinds)
		}
	}
	for i, r := range v.d.Requires {
		at := fmt.Sprintf("require.%d", i)
		given := 0
		for _, is := range []bool{r.Value != "", r.Exists != "", r.SaveExists != "", r.Mods != ""} {
			if is {
				given++
			}
		}
		if given != 1 || (r.Value != "") != (r.Is != "") || r.Effect == "" || r.Fix == "" {
			v.Errorf(at, "", "a requirement is one of value with is, exists, save_exists or mods = \"none\", with an effect and a fix")
		}
		if r.Value != "" {
			v.Defined(at+".value", "[value]", r.Value, keys(v.d.Values))
		}
		if r.Exists != "" {
			v.template(at+".exists", r.Exists)
		}
		if r.Mods != "" && r.Mods != "none" {
			v.Errorf(at+".mods", "", "%q is not none", r.Mods)
		}
	}
}
