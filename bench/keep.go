package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"
)

// description is a game whose mods are the trees that are kept.
const description = `ostrov = 1
id = "bench"
title = "Bench"
version = { default = "1" }
[install]
marker = ["bench.exe"]
[[folder]]
id = "saves"
path = "{game}/saves"
[[folder]]
id = "mods"
path = "{game}/mods"
[[save]]
id = "save"
unit = "file"
folder = "saves"
name = "{name}.sav"
no_mods = true
[[mod]]
id = "mod"
unit = "folder"
folder = "mods"
`

const tableHead = "| what | Ostrov | the other | ratio |\n|---|---|---|---|"

// trees are those that keep and restore work on.
var trees = []struct {
	what string
	make func(dir string) error
}{
	{"20,000 small mod files", func(dir string) error { return smallFiles(dir, 20_000, 60) }},
	{"2 GB of textures, sounds, databases, text", mixed},
}

// keep compares keeping with tar, zstd, cp and git on generated trees.
func keep(b *bench) error { return b.onTrees(b.firstKeep) }

// restore compares bringing the same trees back with tar and cp.
func restore(b *bench) error { return b.onTrees(b.restored) }

func (b *bench) onTrees(compare func(ctx context.Context, what string, tree func(dir string) error) error) error {
	fmt.Println(tableHead)
	for _, t := range trees {
		if err := compare(context.Background(), t.what, t.make); err != nil {
			return err
		}
	}
	return nil
}

// again compares keeping what has not changed with finding it and with mirroring it.
func again(b *bench) error {
	fmt.Println(tableHead)
	return b.unchangedKeep(context.Background())
}

// long keeps the same 20,000 files a thousand times.
func long(b *bench) error {
	if err := b.game(func(dir string) error { return smallFiles(dir, 20_000, 60) }); err != nil {
		return err
	}
	time.Sleep(2100 * time.Millisecond)
	var second, last []float64
	for i := range 1000 {
		f, err := b.once(context.Background(), side{command: []string{b.ostrov, "keep", "bench", "--with", "mods"}})
		if err != nil {
			return err
		}
		switch {
		case i >= 1 && i < 21:
			second = append(second, f.wall.Seconds())
		case i >= 980:
			last = append(last, f.wall.Seconds())
		}
	}
	size, err := folderSize(b.path("home", "archive", "playthroughs"))
	if err != nil {
		return err
	}
	slices.Sort(second)
	slices.Sort(last)
	fmt.Printf("the 2nd to 21st: %.3f s (median); the 981st to 1,000th: %.3f s; ratio %.2f; %d bytes of JSON a snapshot\n", second[10], last[10], last[10]/second[10], size/1000)
	return nil
}

// million keeps a million files, twice.
func million(b *bench) error {
	if err := b.game(func(dir string) error { return tinyFiles(dir, 1_000_000) }); err != nil {
		return err
	}
	time.Sleep(2100 * time.Millisecond)
	for _, what := range []string{"first", "unchanged", "unchanged again"} {
		f, err := b.once(context.Background(), side{command: []string{b.ostrov, "keep", "bench", "--with", "mods"}})
		if err != nil {
			return err
		}
		fmt.Printf("a million files, %s: %.1f s, %d MB\n", what, f.wall.Seconds(), f.peak>>20)
	}
	return nil
}

// tinyFiles writes so many files of a few bytes, 500 to a folder.
func tinyFiles(dir string, files int) error {
	for i := range files {
		at := filepath.Join(dir, fmt.Sprintf("mod%03d", i/5000), fmt.Sprintf("d%d", i/500%10))
		if i%500 == 0 {
			if err := os.MkdirAll(at, 0o755); err != nil {
				return err
			}
		}
		if err := os.WriteFile(filepath.Join(at, fmt.Sprintf("f%04d.dat", i%500)), fmt.Append(nil, i), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// game lays out an install of the bench game with a tree of mods and adds it to a fresh home.
func (b *bench) game(tree func(dir string) error) error { return b.gameOf(description, tree) }

// gameOf is game with another description.
func (b *bench) gameOf(description string, tree func(dir string) error) error {
	for _, dir := range []string{"home", "game", "archive"} {
		if err := os.RemoveAll(b.path(dir)); err != nil {
			return err
		}
	}
	for _, dir := range []string{b.path("home", "games"), b.path("game", "saves"), b.path("game", "mods")} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	err := errors.Join(os.WriteFile(b.path("home", "games", "bench.toml"), []byte(description), 0o644), os.WriteFile(b.path("game", "bench.exe"), nil, 0o644),
		os.WriteFile(b.path("game", "saves", "one.sav"), []byte("save"), 0o644), tree(b.path("game", "mods")))
	if err != nil {
		return err
	}
	return b.setUp("games", "add", "bench", "--at", b.path("game"), "--yes")
}

func (b *bench) setUp(args ...string) error {
	cmd := exec.Command(b.ostrov, args...)
	cmd.Env = append(os.Environ(), "OSTROV_HOME="+b.path("home"))
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%v: %s%w", args, out, err)
	}
	return nil
}

// clear takes away what a run wrote. A tree of many files is only moved aside until the end: ext4 does not use the inodes of files again
// in the seconds after they were removed, and looks for others so slowly that this would be all that is measured.
func (b *bench) clear(names ...string) func() error {
	return func() error {
		for _, n := range names {
			list, err := filepath.Glob(filepath.Join(b.path(n), "*", "*", "*"))
			if err == nil && len(list) > 1000 {
				b.gone++
				err = os.Rename(b.path(n), b.path(fmt.Sprintf("gone-%d", b.gone)))
			} else if err == nil {
				err = os.RemoveAll(b.path(n))
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
}

func (b *bench) firstKeep(ctx context.Context, what string, tree func(dir string) error) error {
	if err := b.game(tree); err != nil {
		return err
	}
	anew := func() error {
		return errors.Join(b.clear(filepath.Join("home", "archive"), filepath.Join("home", "index.sqlite"), filepath.Join("home", "index.sqlite-wal"), filepath.Join("home", "logbook.sqlite"))())
	}
	if _, err := b.compare(ctx, what+": first keep", side{name: "keep", command: []string{b.ostrov, "keep", "bench", "--with", "mods"}, before: anew},
		side{name: "tar, zstd -1 -T0", command: []string{"sh", "-c", "tar -C game -cf - mods | zstd -q -1 -T0 -o out.tar.zst"}, before: b.clear("out.tar.zst")},
		side{name: "tar, zstd -1 -T0, sync", command: []string{"sh", "-c", "tar -C game -cf - mods | zstd -q -1 -T0 -o synced.tar.zst && sync synced.tar.zst"}, before: b.clear("synced.tar.zst")},
		side{name: "cp -a", command: []string{"cp", "-a", "game/mods", "copy"}, before: b.clear("copy")},
		side{name: "git add, commit", command: []string{"sh", "-c", "git init -q repo && cp -a game/mods repo && cd repo && git add -A && git -c user.name=b -c user.email=b@localhost commit -qm x"}, before: b.clear("repo")},
	); err != nil {
		return err
	}
	if size, err := folderSize(b.path("home", "archive")); err == nil {
		info, err := os.Stat(b.path("out.tar.zst"))
		if err == nil {
			fmt.Printf("| %s: bytes | archive %d MB | tar.zst %d MB | %.2f |\n", what, size>>20, info.Size()>>20, float64(size)/float64(info.Size()))
		}
	}
	return b.clear("copy", "repo", "out.tar.zst", "synced.tar.zst")()
}

// restored compares bringing a tree back with unpacking it and with copying it.
func (b *bench) restored(ctx context.Context, what string, tree func(dir string) error) error {
	if err := b.game(tree); err != nil {
		return err
	}
	if err := b.setUp("keep", "bench", "--with", "mods"); err != nil {
		return err
	}
	plain := exec.CommandContext(ctx, "tar", "-C", b.path("game"), "-cf", b.path("plain.tar"), "mods")
	if out, err := plain.CombinedOutput(); err != nil {
		return fmt.Errorf("%s%w", out, err)
	}
	if _, err := b.compare(ctx, what+": restore", side{name: "restore --to", command: []string{b.ostrov, "restore", "bench", "--to", b.path("restored")}, before: b.clear("restored")},
		side{name: "tar x", command: []string{"sh", "-c", "mkdir unpacked && tar -C unpacked -xf plain.tar"}, before: b.clear("unpacked")},
		side{name: "tar x, sync", command: []string{"sh", "-c", "mkdir synced && tar -C synced -xf plain.tar && sync -f synced"}, before: b.clear("synced")},
		side{name: "cp -a", command: []string{"cp", "-a", "game/mods", "copy"}, before: b.clear("copy")},
	); err != nil {
		return err
	}
	return b.clear("copy", "restored", "unpacked", "synced", "plain.tar")()
}

func (b *bench) unchangedKeep(ctx context.Context) error {
	if err := b.game(func(dir string) error { return smallFiles(dir, 100_000, 200) }); err != nil {
		return err
	}
	time.Sleep(2100 * time.Millisecond) // times are trusted when they are older than that
	if err := b.setUp("keep", "bench", "--with", "mods"); err != nil {
		return err
	}
	mirror := exec.CommandContext(ctx, "rsync", "-a", b.path("game", "mods")+"/", b.path("mirror"))
	if out, err := mirror.CombinedOutput(); err != nil {
		return fmt.Errorf("%s%w", out, err)
	}
	_, err := b.compare(ctx, "100,000 files unchanged", side{name: "keep", command: []string{b.ostrov, "keep", "bench", "--with", "mods"}},
		side{name: "find -printf", command: []string{"find", "game/mods", "-printf", `%s %T@ %i\n`}},
		side{name: "rsync -a", command: []string{"rsync", "-a", "game/mods/", "mirror"}})
	return err
}

// smallFiles writes so many files of a few hundred bytes to some kilobytes, spread over so many mods.
func smallFiles(dir string, files, mods int) error {
	r := rand.New(rand.NewPCG(5, 6))
	old := time.Now().Add(-time.Hour)
	buf := make([]byte, 8192)
	for i := range files {
		at := filepath.Join(dir, fmt.Sprintf("mod%03d", i%mods), fmt.Sprintf("d%d", i/mods%20))
		if i < mods*20 {
			if err := os.MkdirAll(at, 0o755); err != nil {
				return err
			}
		}
		data := buf[:200+r.IntN(4000)]
		fillText(data, r)
		path := filepath.Join(at, fmt.Sprintf("f%d.json", i))
		if err := errors.Join(os.WriteFile(path, data, 0o644), os.Chtimes(path, old, old)); err != nil {
			return err
		}
	}
	return nil
}

// mixed writes 2 GB: half of it packed already (textures, sounds), a quarter databases, a quarter text.
func mixed(dir string) error {
	r := rand.New(rand.NewPCG(7, 8))
	old := time.Now().Add(-time.Hour)
	buf := make([]byte, 1<<20)
	for i := range 400 {
		size, kind := 5, i%4
		at := filepath.Join(dir, fmt.Sprintf("mod%02d", i%40))
		if err := os.MkdirAll(at, 0o755); err != nil {
			return err
		}
		path := filepath.Join(at, fmt.Sprintf("file%03d.%s", i, []string{"texture", "sound", "db", "txt"}[kind]))
		f, err := os.Create(path)
		if err != nil {
			return err
		}
		w := bufio.NewWriterSize(f, 1<<20)
		for range size {
			switch kind {
			case 0, 1:
				for j := 0; j < len(buf); j += 8 {
					v := r.Uint64()
					for k := range 8 {
						buf[j+k] = byte(v >> (8 * k))
					}
				}
			case 2:
				for j := range buf {
					buf[j] = byte(r.IntN(24))
				}
			default:
				fillText(buf, r)
			}
			if _, err := w.Write(buf); err != nil {
				return err
			}
		}
		if err := errors.Join(w.Flush(), f.Close(), os.Chtimes(path, old, old)); err != nil {
			return err
		}
	}
	return nil
}

func folderSize(dir string) (int64, error) {
	var total int64
	err := filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err == nil {
			total += info.Size()
		}
		return err
	})
	return total, err
}
