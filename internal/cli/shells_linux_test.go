package cli_test

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// typed are lines as a player types them, with the tab at the end left out, and the arguments that they become.
var typed = []struct {
	line string
	args []string
}{
	{`ostrov need`, []string{"needs"}},
	{`ostrov games fo`, []string{"games", "forget"}},
	{`ostrov needs pebbles/My`, []string{"needs", "pebbles/My First Run.run"}},
	{`ostrov needs "pebbles/My`, []string{"needs", "pebbles/My First Run.run"}},
	{`ostrov needs pebbles/My\ Fi`, []string{"needs", "pebbles/My First Run.run"}},
	{`ostrov needs tidewrack:5`, []string{"needs", "tidewrack:55555/1"}},
	{`ostrov saves rename tidewrack:5`, []string{"saves", "rename", "tidewrack:55555/1"}},
	{`ostrov keep --wi`, []string{"keep", "--with"}},
	{`ostrov keep --with pic`, []string{"keep", "--with", "pictures"}},
	{`ostrov look --if=drop:dee`, []string{"look", "--if=drop:deep-tides"}},
	{`ostrov restore pebb`, []string{"restore", "pebbles"}},
	{`ostrov --json look brass-o`, []string{"--json", "look", "brass-orchard"}},
	{`ostrov vet wint`, []string{"vet", "winter apples.xml"}},
	{`ostrov archive add dri`, []string{"archive", "add", "drive/"}},
}

// shelled is a world with names that shells trip over, and an ostrov that says with what arguments it was called.
func shelled(t *testing.T) (w *world, env []string) {
	w = newWorld(t)
	w.small(pebbles, "pebbles", map[string]string{"release.txt": "1", "saves/My First Run.run": "x"})
	require.NoError(t, os.CopyFS(filepath.Join(filepath.Dir(w.voyages()), "55555", "slot_00"), os.DirFS(w.voyages("slot_00"))))
	cwd := w.path("cwd")
	require.NoError(t, os.MkdirAll(filepath.Join(cwd, "drive"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(cwd, "winter apples.xml"), nil, 0o644))
	bin := w.path("bin")
	require.NoError(t, os.MkdirAll(bin, 0o755))
	script := fmt.Sprintf("#!/bin/sh\ncase \"$1\" in complete|completion) exec %s \"$@\";; esac\nprintf 'args:'; for a in \"$@\"; do printf '<%%s>' \"$a\"; done; echo\n", program)
	require.NoError(t, os.WriteFile(filepath.Join(bin, "ostrov"), []byte(script), 0o755))
	return w, append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "HOME="+w.path("home"), "OSTROV_HOME="+filepath.Join(w.dir, "ostrov"), "TERM=xterm", "PS1=> ", "LC_ALL=C.UTF-8")
}

// terminalOf runs a program in a terminal of its own, and returns what types into it and what it has shown.
func terminalOf(t *testing.T, dir string, env []string, name string, args ...string) (keys io.Writer, shown func() string) {
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0))
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	require.NoError(t, err)
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlSetWinsize(int(master.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 50, Col: 200}))
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env, cmd.Stdin, cmd.Stdout, cmd.Stderr = dir, env, slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(t, cmd.Start())
	require.NoError(t, slave.Close())
	var mu sync.Mutex
	var text strings.Builder
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := master.Read(buf)
			mu.Lock()
			text.Write(buf[:n])
			mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		_ = master.Close()
	})
	return master, func() string {
		mu.Lock()
		defer mu.Unlock()
		return text.String()
	}
}

// TestCompletionInRealShells types lines and a tab.
func TestCompletionInRealShells(t *testing.T) {
	t.Parallel()
	w, env := shelled(t)
	w.ok("keep", "pebbles")
	for shell, start := range map[string]struct {
		args  []string
		begin string
	}{
		"bash": {[]string{"--norc", "--noprofile", "-i"}, "source <(ostrov completion bash)"},
		"zsh":  {[]string{"-f", "-i"}, "autoload -Uz compinit; compinit -u; unsetopt zle_bracketed_paste; source <(ostrov completion zsh)"},
	} {
		t.Run(shell, func(t *testing.T) {
			t.Parallel()
			path, err := exec.LookPath(shell)
			if err != nil {
				t.Skipf("needs the Debian package %s", shell)
			}
			keys, shown := terminalOf(t, w.path("cwd"), env, path, start.args...)
			waitFor := func(text string) bool {
				for range 400 {
					if strings.Contains(shown(), text) {
						return true
					}
					time.Sleep(25 * time.Millisecond)
				}
				return false
			}
			_, err = fmt.Fprintf(keys, "%s; echo ready-$((40+2))\n", start.begin)
			require.NoError(t, err)
			require.True(t, waitFor("ready-42"), shown())
			for i, c := range typed {
				before := len(shown())
				_, err := fmt.Fprintf(keys, "%s\t", c.line)
				require.NoError(t, err)
				last := c.args[len(c.args)-1]
				for range 800 { // until it has shown how the word ends that it completes
					time.Sleep(25 * time.Millisecond)
					if strings.Contains(shown()[before:], last[len(last)-3:]) {
						break
					}
				}
				time.Sleep(300 * time.Millisecond)
				end := fmt.Sprintf("end-%d", 1000+i)
				quote := ""
				if strings.Count(c.line, `"`)%2 == 1 && !strings.Contains(shown()[before:], `.run"`) {
					quote = `"`
				}
				_, err = fmt.Fprintf(keys, "%s\necho end-$((%d))\n", quote, 1000+i)
				require.NoError(t, err)
				require.True(t, waitFor(end), shown()[before:])
				want := "args:"
				for _, a := range c.args {
					if shell == "zsh" { // it takes the slash back that it has added
						a = strings.TrimSuffix(a, "/")
					}
					want += "<" + a + ">"
				}
				assert.Contains(t, shown()[before:], want, c.line)
			}
		})
	}
	t.Run("fish", func(t *testing.T) {
		t.Parallel()
		path, err := exec.LookPath("fish")
		if err != nil {
			t.Skip("needs the Debian package fish")
		}
		for _, c := range typed {
			cmd := exec.Command(path, "--no-config", "-c", `ostrov completion fish | source; complete -C $argv[1]`, c.line)
			cmd.Dir, cmd.Env = w.path("cwd"), env
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
			words := []string{}
			for line := range strings.Lines(string(out)) {
				word, _, _ := strings.Cut(strings.TrimSpace(line), "\t")
				words = append(words, word)
			}
			assert.Contains(t, words, c.args[len(c.args)-1], c.line)
		}
	})
}

var escapes = regexp.MustCompile("\x1b\\[[0-9;?]*[a-zA-Z]|\x1b\\][^\a]*\a")

// TestNothingIsWiderThanTheScreen runs what lists things in terminals of several widths: no line is wider, and titles stay readable. In a pipe
// nothing is cut.
func TestNothingIsWiderThanTheScreen(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	long := strings.Repeat("The Very Long Voyage ", 6)
	w.small(strings.Replace(pebbles, "[[mod]]", "[save.field]\ntitle = { from_name = \"(.+)[.]run\" }\n[[mod]]", 1), "pebbles",
		map[string]string{"release.txt": "1", "saves/" + long + ".run": "x", "saves/short.run": "x", "mods/" + strings.Repeat("long-", 20) + "mod/a.txt": "x"})
	w.ok("keep", "tidewrack", "-m", strings.Repeat("a long note ", 20))
	w.ok("keep", "pebbles")
	w.ok("playthroughs", "start", long[:50], "pebbles")
	w.written("slot_00", "another")
	w.ok("restore", "tidewrack.1", "--slot", "1", "--yes", "--older")
	commands := [][]string{
		{"look"}, {"look", "pebbles"}, {"saves"}, {"saves", "pebbles"}, {"mods"}, {"mods", "pebbles"}, {"kept"}, {"kept", "tidewrack.1"}, {"kept", "tidewrack/1"}, {"compare", "tidewrack.1", "tidewrack"},
		{"games"}, {"playthroughs"}, {"undo", "--list"}, {"vet", "downloads/finished-harbour.zip"}, {"needs", "tidewrack/5"}, {"needs", "pebbles/short.run"},
		{"place", "downloads/quiet-cove.zip", "--dry-run"}, {"restore", "tidewrack.1", "--dry-run"}, {"look", "tidewrack", "--if", "drop:deep-tides"},
		{"look", "--help"}, {"help"}, {"keep", "tidewrack", "--dry-run"}, {"fresh", "New", "tidewrack", "--dry-run"},
	}
	env := append(os.Environ(), "OSTROV_HOME="+filepath.Join(w.dir, "ostrov"), "TERM=xterm", "LC_ALL=C.UTF-8")
	needsProgram(t, "sh", "dash")
	for _, width := range []int{60, 80, 132} {
		for _, args := range commands {
			script := fmt.Sprintf("stty cols %d; %s %s; echo end-$((40+2))", width, program, quotedWords(args))
			_, shown := terminalOf(t, w.dir, env, "sh", "-c", script)
			for range 400 {
				if strings.Contains(shown(), "end-42") {
					break
				}
				time.Sleep(10 * time.Millisecond)
			}
			text, _, ok := strings.Cut(escapes.ReplaceAllString(shown(), ""), "end-42")
			require.True(t, ok, args)
			for line := range strings.Lines(text) {
				line = strings.TrimRight(line, "\r\n")
				path := strings.Contains(line, "/") && !strings.Contains(strings.TrimSpace(line), " ") // a path is there to be copied
				assert.True(t, lipgloss.Width(line) <= width || path, "%v at %d: %d wide: %s", args, width, lipgloss.Width(line), line)
			}
			if args[0] == "look" && len(args) == 2 && args[1] == "pebbles" {
				assert.Contains(t, text, "The Very Long", "titles stay readable at %d", width)
			}
		}
	}
	for _, args := range [][]string{{"look", "pebbles"}, {"saves", "pebbles"}} {
		assert.Contains(t, w.ok(args...).out, long, "in a pipe nothing is cut")
	}
}

func quotedWords(words []string) string {
	var all []string
	for _, w := range words {
		all = append(all, "'"+w+"'")
	}
	return strings.Join(all, " ")
}
