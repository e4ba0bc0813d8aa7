package cli_test

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// script writes a program that stands for a game.
func (w *world) script(text string) string {
	if runtime.GOOS == "windows" {
		w.t.Skip("the stand-in for a game is a shell script")
	}
	path := filepath.Join(w.t.TempDir(), "night-tram.x86_64")
	require.NoError(w.t, os.WriteFile(path, []byte("#!/bin/sh\nset -e\n"+text), 0o755))
	return path
}

const session = "night begins\ndepot copper-line 1.4.0 opened\ndepot rain-yard 2.0.0 opened\ndepot bell-tower stays shut: old\nfault: no bell for stop 12\n"

func TestPlay(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	log := w.tram("session.log")
	game := w.script("cp '" + w.tram("worlds", "Lower Town.tramworld") + "' '" + w.tram("worlds", "Evening.tramworld") + "'\nprintf '" + strings.ReplaceAll(session, "\n", `\n`) + "' > '" + log + "'\necho the game speaks\n")
	r := w.ok("play", "night-tram", "--", game, "--full")
	assert.Contains(t, r.out, "1 save written")
	assert.Contains(t, r.out, "2 mods loaded")
	assert.Contains(t, r.out, "fault: no bell for stop 12")
	assert.Contains(t, r.out, "not-loaded Bell Tower")
	assert.Contains(t, r.out, "kept as night-tram.1")
	assert.NotContains(t, r.out, "the game speaks", "what the game says is no part of the answer")
	assert.Contains(t, r.err, "the game speaks")
	assert.Contains(t, r.err, "fit for night-tram")
	r = w.ok("needs", "night-tram/Evening.tramworld")
	assert.Regexp(t, `(?m)^    seen .*6 mods`, r.out)
	assert.Regexp(t, `(?m)^    loaded .*2 mods`, r.out)
	assert.Contains(t, w.ok("look", "night-tram").out, "not-loaded Bell Tower")
	assert.Contains(t, w.ok("kept", "night-tram").out, "before the next session")

	assert.Contains(t, w.fails(1, "play", "night-tram", "--", filepath.Join(w.dir, "no-such-game")).err, "the game did not start")
	r = w.ok("play", "night-tram", "--", w.script("exit 3"))
	assert.Contains(t, r.out, "The game ended badly: exit status 3")
	assert.Contains(t, r.out, "nothing was written")
}

func TestPlayWarns(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	newest := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(w.tram("worlds", "Harbour Loop.tramworld"), newest, newest))
	require.NoError(t, os.WriteFile(w.tram("options.ini"), []byte("[play]\ndepots = shut\n"), 0o644))
	r := w.fails(7, "play", "night-tram", "--", "night-tram-plain.x86_64")
	assert.Contains(t, r.err, "unfit for night-tram")
	assert.Contains(t, r.err, "mod-missing")
	assert.Contains(t, r.err, "wrong-starter", "the program is for games without mods")
	assert.Contains(t, r.err, "Night Tram without depots: is not for Harbour Loop.tramworld")
	assert.Contains(t, r.err, "setting-needed")
	assert.Contains(t, r.err, "set depots = open")
	assert.Contains(t, r.err, "--yes")
}

// TestWatch writes a world in two halves and an autosave twice, and stops the watching as a player does.
func TestWatch(t *testing.T) {
	w := newWorld(t).withTrams()
	if runtime.GOOS == "windows" {
		t.Skip("a stop cannot be sent there")
	}
	whole, err := os.ReadFile(w.tram("worlds", "Lower Town.tramworld"))
	require.NoError(t, err)
	cmd := exec.Command(w.bin, "watch", "night-tram")
	cmd.Env = append(os.Environ(), "OSTROV_HOME="+w.path("ostrov"), "HOME="+w.path("nobody"))
	var out bytes.Buffer
	cmd.Stdout = &out
	said, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	lines := make(chan string, 20)
	go func() {
		var text strings.Builder
		buf := make([]byte, 1000)
		for {
			n, err := said.Read(buf)
			text.Write(buf[:n])
			for strings.Contains(text.String(), "\n") {
				line, rest, _ := strings.Cut(text.String(), "\n")
				text.Reset()
				text.WriteString(rest)
				lines <- line
			}
			if err != nil {
				close(lines)
				return
			}
		}
	}()
	next := func() string {
		select {
		case l := <-lines:
			return l
		case <-time.After(30 * time.Second):
			cmd.Process.Kill()
			require.Fail(t, "nothing was said")
			return ""
		}
	}
	require.Contains(t, next(), "watching")
	time.Sleep(300 * time.Millisecond)
	auto := w.tram("worlds", "Autosave.tramworld")
	require.NoError(t, os.WriteFile(auto, whole[:len(whole)/2], 0o644))
	time.Sleep(600 * time.Millisecond)
	require.NoError(t, os.WriteFile(auto, whole, 0o644))
	assert.Contains(t, next(), "Autosave.tramworld", "once it is whole")
	timetable := w.tram("timetables", "auto.timetable")
	require.NoError(t, os.WriteFile(timetable, []byte("[timetable]\ntitle = One\nversion = 3.1\n[/timetable]\n"), 0o644))
	assert.Contains(t, next(), `"One"`)
	require.NoError(t, os.WriteFile(timetable, []byte("[timetable]\ntitle = Two\nversion = 3.1\n[/timetable]\n"), 0o644))
	assert.Contains(t, next(), `"Two"`, "the same file again")
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	require.NoError(t, cmd.Wait())
	assert.Contains(t, out.String(), "3 saves written")
	assert.Contains(t, out.String(), "kept as night-tram.1")
	w.ok("archive", "verify")
}

func TestLookIf(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	before := state(t, w.path("games"), w.path("player"))
	r := w.ok("look", "night-tram", "--if", "drop:copper-line")
	assert.Contains(t, r.out, "2 saves would get worse")
	assert.Regexp(t, `Lower Town .*fit → unfit`, r.out)
	assert.Contains(t, r.out, "requirement-missing Cable Hill")
	assert.Contains(t, r.out, "Nothing has been changed.")
	r = w.ok("look", "night-tram", "--if", "add:"+filepath.Join("downloads", "gas-mantles.zip"))
	assert.Regexp(t, `Quiet Line .*risky → fit`, r.out)
	assert.Contains(t, r.out, "mods-collide")
	assert.Contains(t, w.ok("look", "tidewrack", "--if", "version:1.5.0").out, "would get worse")
	assert.Equal(t, 4, w.run("look", "tidewrack", "--if", "version:1.5.0", "--check").status)
	for _, wrong := range []string{"drop:nothing", "add:" + filepath.Join("downloads", "quiet-cove.zip"), "drop", "version:", "eat:x"} {
		w.fails(2, "look", "tidewrack", "--if", wrong)
	}
	assert.Equal(t, before, state(t, w.path("games"), w.path("player")))
}

func TestBase(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	assert.Contains(t, w.ok("games", "base", "night-tram").out, "The install has nothing else.")
	game := func(name string) string { return w.path("games", "NightTram", name) }
	require.NoError(t, os.WriteFile(game("strange.dll"), []byte("x"), 0o644))
	require.NoError(t, os.WriteFile(game("crash.log"), []byte("allowed"), 0o644))
	require.NoError(t, os.WriteFile(game("release.txt"), []byte("version 3.1\nbuild 1\n"), 0o644))
	require.NoError(t, os.Remove(game(filepath.Join("tracks", "straight.track"))))
	r := w.ok("look", "night-tram")
	for _, want := range []string{"release.txt: is altered", "tracks/straight.track: is missing", "strange.dll: is no part of the clean game"} {
		assert.Contains(t, r.out, want)
	}
	assert.NotContains(t, r.out, "crash.log")

	list := filepath.Join(t.TempDir(), "list.txt")
	require.NoError(t, os.WriteFile(list, []byte("# by its author\n*.x86_64\nNightTram.exe\nrelease.txt\ntracks/\n"), 0o644))
	r = w.ok("games", "base", "night-tram", "--from", list)
	assert.Contains(t, r.out, "strange.dll")
	assert.NotContains(t, r.out, "release.txt", "only names count in a list")
	assert.Contains(t, r.out, "no match  tracks/**", "the only track is gone")
	assert.NotContains(t, r.out, "no match  *.x86_64")
	require.NoError(t, os.WriteFile(list, []byte("# nothing\n"), 0o644))
	assert.Contains(t, w.fails(2, "games", "base", "night-tram", "--from", list).err, "names no path")
	require.NoError(t, os.WriteFile(list, []byte("ok\n../outside\n"), 0o644))
	assert.Contains(t, w.fails(1, "games", "base", "night-tram", "--from", list).err, "list.txt:2")
}

// TestCleanSave has a save that needs a game without mods, by the player's word.
func TestCleanSave(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	rewrite(t, w.voyages("slot_08", "voyage.json.gz"), `"mods": []`, `"ignored": []`)
	r := w.ok("needs", "tidewrack/9", "--state", "clean", "--note", "its author says so")
	assert.Contains(t, r.out, "needs-clean-game")
	assert.Contains(t, r.out, "10 mods are on")
	assert.Contains(t, r.out, "stated: you said so")
}

// rewrite replaces a text inside a packed file.
func rewrite(t testing.TB, path, old, new string) {
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	z, err := gzip.NewReader(bytes.NewReader(data))
	require.NoError(t, err)
	text, err := io.ReadAll(z)
	require.NoError(t, err)
	require.Contains(t, string(text), old)
	var b bytes.Buffer
	packed := gzip.NewWriter(&b)
	_, err = packed.Write([]byte(strings.Replace(string(text), old, new, 1)))
	require.NoError(t, err)
	require.NoError(t, packed.Close())
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
}

func TestParcel(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	out := filepath.Join(t.TempDir(), "rock.zip")
	r := w.fails(7, "parcel", "tidewrack/1", "-o", out)
	assert.Contains(t, r.out, "private slot_00/voyage.json.gz: your account: 70431")
	assert.Contains(t, r.err, "ostrov parcel tidewrack/1 --blank")
	assert.NoFileExists(t, out)
	w.ok("parcel", "tidewrack/1", "-o", out, "--dry-run")
	assert.NoFileExists(t, out)
	r = w.ok("parcel", "tidewrack/1", "-o", out, "--blank", "--note", "all lamps lit")
	assert.Contains(t, r.out, "owner emptied")
	z, err := zip.OpenReader(out)
	require.NoError(t, err)
	defer z.Close()
	packed, err := z.Open("rock/data/save/slot_00/voyage.json.gz")
	require.NoError(t, err)
	g, err := gzip.NewReader(packed)
	require.NoError(t, err)
	text, err := io.ReadAll(g)
	require.NoError(t, err)
	assert.Contains(t, string(text), `"captain": 0`)
	assert.NotContains(t, string(text), "70431")
	assert.Contains(t, w.fails(7, "parcel", "tidewrack/1", "-o", out, "--blank").err, "is there already")
	r = w.ok("vet", out)
	assert.Contains(t, r.out, "belongs to nobody; place makes it yours, 70431")
	assert.NotContains(t, r.out, "litter", "the parcel's own files are none")
	w.ok("place", out, "--yes")

	data, err := os.ReadFile(out)
	require.NoError(t, err)
	i := bytes.Index(data, []byte("READ-ME"))
	require.Positive(t, i)
	copy(data[i:], "READ-MY")
	bad := filepath.Join(t.TempDir(), "bad.zip")
	require.NoError(t, os.WriteFile(bad, data, 0o644))
	assert.NotEqual(t, 0, w.run("vet", bad).status)
	assert.Contains(t, w.fails(2, "parcel", "tidewrack/99").err, "99")
}

// TestParcelTellsWhatTheSaveDoesNot hands on what only the player knew.
func TestParcelTellsWhatTheSaveDoesNot(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	rewrite(t, w.voyages("slot_08", "voyage.json.gz"), `"mods": []`, `"ignored": []`)
	w.ok("needs", "tidewrack/9", "--state", "mod gull-post 1.4.2")
	out := filepath.Join(t.TempDir(), "night.zip")
	w.ok("parcel", "tidewrack/9", "-o", out, "--blank")
	other := newWorld(t)
	r := other.run("vet", out, "--json")
	var doc struct {
		Saves []struct {
			Needs struct {
				Mods []struct {
					ID string `json:"id"`
				} `json:"mods"`
				Evidence string `json:"mods_evidence"`
			} `json:"needs"`
		} `json:"saves"`
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &doc), r.out)
	require.Len(t, doc.Saves, 1)
	assert.Equal(t, "parcel", doc.Saves[0].Needs.Evidence)
	require.Len(t, doc.Saves[0].Needs.Mods, 1)
	assert.Equal(t, "gull-post", doc.Saves[0].Needs.Mods[0].ID)
}

// TestAnAuthorsListOfTheCleanGame judges what the description calls the game's own, and notices what is altered or gone of it.
func TestAnAuthorsListOfTheCleanGame(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	description := strings.Replace(pebbles, `marker = ["release.txt"]`, "marker = [\"release.txt\"]\nbase = [\"release.txt\", \"data/**\"]", 1)
	write := w.small(description, "pebbles", map[string]string{"release.txt": "1", "data/a.dat": "a", "data/b.dat": "b", "readme.txt": "of a mod", "saves/a.run": "x"})
	list := w.path("list.txt")
	require.NoError(t, os.WriteFile(list, []byte("release.txt\ndata/*.dat\nsounds/**\ndata/c.dat\n"), 0o644))
	out := w.ok("games", "base", "pebbles", "--from", list).out
	assert.Contains(t, out, "sounds/**")
	assert.Contains(t, out, "data/c.dat")
	assert.NotContains(t, out, "readme.txt", "it is none of the game's own")
	write("data/a.dat", "altered")
	write("data/strange.bin", "x")
	require.NoError(t, os.Remove(w.path("games", "pebbles", "data", "b.dat")))
	look := w.ok("look", "pebbles").out
	assert.Regexp(t, `data/a.dat\s+is altered|data/a.dat: is altered`, look)
	assert.Regexp(t, `data/b.dat:? is missing`, look)
	assert.Contains(t, look, "data/strange.bin")
	assert.NotContains(t, look, "readme.txt")
	require.NoError(t, os.WriteFile(list, []byte("# nothing\n\n"), 0o644))
	w.fails(2, "games", "base", "pebbles", "--from", list)
}
