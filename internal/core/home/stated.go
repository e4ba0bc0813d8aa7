package home

import (
	"errors"
	"io/fs"
	"slices"
	"strings"
)

// statedFile is the file of the home with the requirements of mods that a player stated.
func statedFile(gameID string) string { return "stated/" + gameID + ".json" }

// StatedNeeds are the requirements that a player stated of the mods of a game, as "ID RANGE", by the mod's id in lower case.
func (h *Home) StatedNeeds(gameID string) (map[string][]string, error) {
	stated := map[string][]string{}
	if err := h.Read(statedFile(gameID), &stated); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return stated, nil
}

// StateNeed remembers a requirement of a mod, or forgets it.
func (h *Home) StateNeed(gameID, mod, need string, forget bool) error {
	stated, err := h.StatedNeeds(gameID)
	if err != nil {
		return err
	}
	key := strings.ToLower(mod)
	stated[key] = slices.DeleteFunc(stated[key], func(n string) bool { return strings.EqualFold(n, need) })
	if !forget {
		stated[key] = append(stated[key], need)
	}
	return h.Write(statedFile(gameID), stated)
}

const cleanFile = "clean-playthroughs.json"

// CleanLines are the playthroughs that are played without mods.
func (h *Home) CleanLines() (map[string]bool, error) {
	clean := map[string]bool{}
	if err := h.Read(cleanFile, &clean); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return clean, nil
}

// SetClean notes that a playthrough is played without mods.
func (h *Home) SetClean(line string) error {
	clean, err := h.CleanLines()
	if err != nil || clean[line] {
		return err
	}
	clean[line] = true
	return h.Write(cleanFile, clean)
}
