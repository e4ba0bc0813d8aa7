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

// keep compares keeping and restoring with tar, zstd, cp, git, rsync and find on generated trees.
func keep(b *bench) error {
	ctx := context.Background()
	fmt.Println("| what | Ostrov | the other | ratio |\n|---|---|---|---|")
	return errors.Join(
		b.firstKeep(ctx, "20,000 small mod files", func(dir string) error { return smallFiles(dir, 20_000, 60) }),
		b.firstKeep(ctx, "2 GB of textures, sounds, databases, text", mixed),
		b.unchangedKeep(ctx),
	)
}

// game lays out an install of the bench game with a tree of mods and adds it to a fresh home.
func (b *bench) game(tree func(dir string) error) error {
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

func (b *bench) clear(names ...string) func() error {
	return func() error {
		var err error
		for _, n := range names {
			err = errors.Join(err, os.RemoveAll(b.path(n)))
		}
		return err
	}
}

func (b *bench) firstKeep(ctx context.Context, what string, tree func(dir string) error) error {
	if err := b.game(tree); err != nil {
		return err
	}
	anew := func() error {
		return errors.Join(b.clear(filepath.Join("home", "archive"), filepath.Join("home", "index.sqlite"), filepath.Join("home", "index.sqlite-wal"), filepath.Join("home", "logbook.sqlite"))())
	}
	first := side{name: "keep", command: []string{b.ostrov, "keep", "bench", "--with", "mods"}, before: anew}
	for _, other := range []side{
		{name: "tar | zstd -1 -T0", command: []string{"sh", "-c", "tar -C game -cf - mods | zstd -q -1 -T0 -o out.tar.zst"}, before: b.clear("out.tar.zst")},
		{name: "cp -a", command: []string{"cp", "-a", "game/mods", "copy"}, before: b.clear("copy")},
		{name: "git add, commit", command: []string{"sh", "-c", "git init -q repo && cd repo && cp -a ../game/mods . && git add -A && git -c user.name=b -c user.email=b@localhost commit -qm x"}, before: b.clear("repo")},
	} {
		if _, err := b.compare(ctx, what+": first keep", first, other); err != nil {
			return err
		}
	}
	if size, err := folderSize(b.path("home", "archive")); err == nil {
		info, err := os.Stat(b.path("out.tar.zst"))
		if err == nil {
			fmt.Printf("| %s: bytes | archive %d MB | tar.zst %d MB | %.2f |\n", what, size>>20, info.Size()>>20, float64(size)/float64(info.Size()))
		}
	}
	plain := exec.CommandContext(ctx, "tar", "-C", b.path("game"), "-cf", b.path("plain.tar"), "mods")
	if out, err := plain.CombinedOutput(); err != nil {
		return fmt.Errorf("%s%w", out, err)
	}
	restore := side{name: "restore --to", command: []string{b.ostrov, "restore", "bench", "--to", b.path("restored")}, before: b.clear("restored")}
	for _, other := range []side{
		{name: "tar x", command: []string{"sh", "-c", "mkdir unpacked && tar -C unpacked -xf plain.tar"}, before: b.clear("unpacked")},
		{name: "cp -a", command: []string{"cp", "-a", "game/mods", "copy"}, before: b.clear("copy")},
	} {
		if _, err := b.compare(ctx, what+": restore", restore, other); err != nil {
			return err
		}
	}
	return b.clear("copy", "repo", "restored", "unpacked", "plain.tar", "out.tar.zst")()
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
	again := side{name: "keep", command: []string{b.ostrov, "keep", "bench", "--with", "mods"}}
	_, err1 := b.compare(ctx, "100,000 files unchanged", again, side{name: "find -printf", command: []string{"find", "game/mods", "-printf", `%s %T@ %i\n`}})
	_, err2 := b.compare(ctx, "100,000 files unchanged", again, side{name: "rsync -a", command: []string{"rsync", "-a", "game/mods/", "mirror"}})
	return errors.Join(err1, err2)
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
