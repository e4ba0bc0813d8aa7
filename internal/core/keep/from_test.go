package keep

import (
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
)

// TestWhichFilesOfACopyAreSettings goes through where a file of a pattern may lie in a copy.
func TestWhichFilesOfACopyAreSettings(t *testing.T) {
	config := game.FileGroup{Dir: filepath.FromSlash("/games/keeper/config"), Glob: "*.ini"}
	deep := game.FileGroup{Dir: filepath.FromSlash("/games/keeper"), Glob: "profiles/*/keys.cfg"}
	for name, c := range map[string]struct {
		group game.FileGroup
		path  string
		rest  string
		ok    bool
	}{
		"directly in the copy":         {config, "lamps.ini", "lamps.ini", true},
		"in a folder of the same name": {config, "old/config/lamps.ini", "lamps.ini", true},
		"whatever its case":            {config, "Config/lamps.ini", "lamps.ini", true},
		"not in another folder":        {config, "mods/fog/lamps.ini", "lamps.ini", false},
		"not of another sort":          {config, "config/lamps.txt", "", false},
		"deeper ones":                  {deep, "keeper/profiles/ada/keys.cfg", "profiles/ada/keys.cfg", true},
		"deeper ones directly":         {deep, "profiles/ada/keys.cfg", "profiles/ada/keys.cfg", true},
		"not without their folder":     {deep, "keys.cfg", "", false},
	} {
		t.Run(name, func(t *testing.T) {
			rest, ok := inGroup(c.group, c.path)
			assert.Equal(t, c.ok, ok)
			if ok {
				assert.Equal(t, c.rest, rest)
			}
		})
	}
}

func TestWhatIsLeftOutOfACopyIsBounded(t *testing.T) {
	c := &handMade{dir: "copy"}
	for i := range maxLeft + 50 {
		c.leave(fmt.Sprint(i), "no save")
	}
	assert.Len(t, c.leftOut, maxLeft+1)
	assert.Equal(t, "50 more", c.leftOut[maxLeft].Why)
}

func TestOneKeptSaveIsNamed(t *testing.T) {
	snap := &archive.Snapshot{Playthrough: "a", Number: 1, Saves: []archive.KeptSave{
		{Folder: "saves", Account: "7", Name: "slot_00", Slot: "1"}, {Folder: "saves", Account: "8", Name: "slot_00", Slot: "1"}, {Folder: "saves", Account: "8", Name: "slot_01", Slot: "2"},
	}}
	for slot, ok := range map[string]bool{"": true, "2": true, "slot_01": true, "1": false, "7/1": true, "saves:8/1": true, "saves/1": false, "9/1": false, "3": false} {
		if err := oneSave(snap, slot); ok {
			assert.NoError(t, err, slot)
		} else {
			assert.Error(t, err, slot)
		}
	}
	wanted := filesOf(&archive.Snapshot{Saves: []archive.KeptSave{{Folder: "saves", Account: "7", Slot: "1", Files: []archive.KeptFile{{Path: "a"}}}, {Folder: "saves", Account: "8", Slot: "1", Files: []archive.KeptFile{{Path: "b"}}}}},
		archive.Root{Folder: "saves", Account: "8"}, "8/1")
	assert.True(t, wanted("b"))
	assert.False(t, wanted("a"), "a file of the other account may be called the same")
}
