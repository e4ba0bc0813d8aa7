package game

import (
	"encoding/json"
	"fmt"
)

// stored is an install as the registry file has it.
type stored struct {
	Game       string            `json:"game"`
	Name       string            `json:"name"`
	Root       string            `json:"root"`
	Prefix     string            `json:"prefix,omitempty"`
	Edition    string            `json:"edition,omitempty"`
	PlayerHome string            `json:"player_home,omitempty"`
	Pins       map[string]string `json:"confirmed,omitempty"`
	With       string            `json:"plays_with,omitempty"`
	Was        []string          `json:"former_names,omitempty"`
}

// LostInstall is an install of a game that has no description now. It is kept as it stands in the file.
type LostInstall struct {
	Game, Name string
	stored     stored
}

// Address is how commands name the install.
func (l LostInstall) Address() string { return l.Game + "@" + l.Name }

// installsFormat is the number of the format of the registry file.
const installsFormat = 1

// EncodeInstalls writes installs as the file installs.json in Ostrov's home has them.
func EncodeInstalls(installs []*Install, lost []LostInstall) ([]byte, error) {
	list := make([]stored, 0, len(installs)+len(lost))
	for _, in := range installs {
		list = append(list, stored{in.Game.ID, in.Name, in.Root, in.Prefix, in.Edition, in.PlayerHome, in.Pins, in.With, in.Was})
	}
	for _, l := range lost {
		list = append(list, l.stored)
	}
	return json.MarshalIndent(map[string]any{"ostrov_installs": installsFormat, "installs": list}, "", "  ")
}

// DecodeInstalls reads what EncodeInstalls wrote; described is the description of a game, or nil. Installs of games without one are lost.
func DecodeInstalls(data []byte, described func(id string) *Description) (installs []*Install, lost []LostInstall, err error) {
	var file struct {
		Format   int      `json:"ostrov_installs"`
		Installs []stored `json:"installs"`
	}
	if err := json.Unmarshal(data, &file); err != nil {
		return nil, nil, err
	}
	if file.Format != installsFormat {
		return nil, nil, fmt.Errorf("is of format %d; this Ostrov reads %d", file.Format, installsFormat)
	}
	for _, s := range file.Installs {
		d := described(s.Game)
		if d == nil {
			lost = append(lost, LostInstall{s.Game, s.Name, s})
			continue
		}
		installs = append(installs, &Install{Game: d, Name: s.Name, Root: s.Root, Prefix: s.Prefix, Edition: s.Edition, PlayerHome: s.PlayerHome, Pins: s.Pins, With: s.With, Was: s.Was})
	}
	return installs, lost, nil
}
