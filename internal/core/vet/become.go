package vet

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/parcel"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// Content is what the save of a download is to have instead of what it has: files that are others, by their paths in the download, all of its files in
// FS, and what it says of itself then.
type Content struct {
	Files tree.Contents
	FS    fs.FS
	Says  save.Facts
	// Folder is the id of the folder that it belongs into then, or "" for that of its kind.
	Folder string
}

// Become judges the one save of the download as it would be with other content, which is then what is placed. The download stays as it is.
func (v *Vetting) Become(ctx context.Context, c Content, req Request) error {
	var installs []*game.Install
	for _, a := range v.Judged {
		installs = append(installs, a.State.Install)
	}
	v.become, v.Judged = &c, nil
	return v.judge(ctx, installs, req)
}

// maxBroken is how many values of one link are named.
const maxBroken = 3

// links are the findings about places of a save that name something which is not in it.
func (v *Vetting) links(ctx context.Context, f *facts.Found) (found []check.Finding) {
	links := f.Game.LinksOf(f.Kind)
	if len(links) == 0 || f.Facts.Problem != nil {
		return nil
	}
	broken, err := save.Broken(ctx, f.Kind, links, v.Download.FS, f.Candidate.Name, f.Candidate.Files)
	if err != nil {
		v.h.Log.Warn("links not checked", "save", f.Name, "error", err)
		return nil
	}
	for i, values := range broken {
		if len(values) == 0 {
			continue
		}
		slices.Sort(values)
		text := strings.Join(values[:min(len(values), maxBroken)], ", ")
		if n := len(values) - maxBroken; n > 0 {
			text += fmt.Sprintf(" and %d more", n)
		}
		found = append(found, check.New(check.BrokenLink, links[i].Title, text+" is named and is not there"))
	}
	return found
}

// member reports whether the download is a member of a save, and says of which.
func (v *Vetting) member(games []*game.Description) bool {
	m, err := parcel.FindMember(v.Download.FS)
	if err != nil {
		if !errors.Is(err, parcel.ErrNoMember) {
			v.Findings = append(v.Findings, check.New(check.NotUnderstood, "", err.Error()))
			return true
		}
		return false
	}
	i := slices.IndexFunc(games, func(d *game.Description) bool { return d.ID == m.Game })
	if i < 0 {
		v.Findings = append(v.Findings, check.New(check.NoRule, "", fmt.Sprintf("it is one member of a save of %s, of which there is no description here", m.Game)))
		return true
	}
	what := m.Called
	if what == "" {
		what = "member"
	}
	text := fmt.Sprintf("it is one %s of a %s of %s, %s", what, m.Kind, games[i].Title, strings.TrimSpace(m.ID+" "+m.Title))
	if m.Version != "" {
		text += ", made with " + m.Version
	}
	v.Findings = append(v.Findings, check.New(check.OneMember, "", text).Helped(problem.Do("members put", "SAVE", v.File)))
	return true
}
