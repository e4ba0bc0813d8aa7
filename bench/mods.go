package main

import (
	"archive/zip"
	"bufio"
	"compress/flate"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"
)

// manyMods writes 400 mods of 125 files each.
func manyMods(dir string) error {
	r := rand.New(rand.NewPCG(7, 7))
	buf := make([]byte, 32<<10)
	for i := range 400 {
		for j := range 125 {
			at := filepath.Join(dir, fmt.Sprintf("mod%03d", i), fmt.Sprintf("d%d", j/25))
			if err := os.MkdirAll(at, 0o755); err != nil {
				return err
			}
			size := 2<<10 + r.IntN(14<<10)
			for k := 0; k < size; k += 8 {
				buf[k] = byte(r.Uint32())
			}
			if err := os.WriteFile(filepath.Join(at, fmt.Sprintf("f%03d.dat", j)), buf[:size], 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

// mods compares listing and verifying 400 mods with finding and reading their files, and adding one of 1 GB with unzip.
func mods(b *bench) error {
	ctx := context.Background()
	if err := b.game(manyMods); err != nil {
		return err
	}
	if err := b.setUp("mods", "adopt", "bench", "--yes"); err != nil {
		return err
	}
	time.Sleep(2100 * time.Millisecond)
	if err := b.setUp("mods", "bench"); err != nil {
		return err
	}
	fmt.Println(tableHead)
	if _, err := b.compare(ctx, "400 mods, 50,000 files: listed", side{name: "mods", command: []string{b.ostrov, "mods", "bench"}},
		side{name: "find -printf '%s %T@'", command: []string{"sh", "-c", `find game/mods -printf '%s %T@\n' > found.txt`}}); err != nil {
		return err
	}
	if _, err := b.compare(ctx, "400 mods, 50,000 files: verified", side{name: "mods verify", command: []string{b.ostrov, "mods", "verify", "bench"}},
		side{name: "xargs -P2 sha256sum", command: []string{"sh", "-c", `find game/mods -type f -print0 | xargs -0 -P2 -n 500 sha256sum > sums.txt`}}); err != nil {
		return err
	}
	for _, dir := range []string{"aside", "back"} {
		f, err := b.once(ctx, side{command: []string{b.ostrov, "mods", dir, "bench", "--yes"}})
		if err != nil {
			return err
		}
		fmt.Printf("| 400 mods, 50,000 files: %s | %.2f s, %d MB | | |\n", dir, f.wall.Seconds(), f.peak>>20)
	}
	return b.addLarge(ctx)
}

// addLarge compares adding a mod of 1 GB with unpacking it.
func (b *bench) addLarge(ctx context.Context) error {
	if err := b.game(func(string) error { return nil }); err != nil {
		return err
	}
	if err := largeZip(b.path("large.zip")); err != nil {
		return err
	}
	drop := func() error {
		if _, err := os.Stat(b.path("game", "mods", "large")); err != nil {
			return nil
		}
		if err := b.setUp("mods", "drop", "bench+large", "--yes"); err != nil {
			return err
		}
		return errors.Join(os.RemoveAll(b.path("game", ".ostrov")), os.RemoveAll(b.path("home", "changes")), os.RemoveAll(b.path("home", "archive")))
	}
	unzip := side{name: "unzip, sync", command: []string{"sh", "-c", "unzip -q large.zip -d out && sync"}, before: b.clear("out")}
	if _, err := b.compare(ctx, "a zip of 1 GB: added, not kept", side{name: "mods add --no-download", command: []string{b.ostrov, "mods", "add", "large.zip", "--no-download", "--yes"}, before: drop}, unzip); err != nil {
		return err
	}
	copied := side{name: "cp, unzip, sync", command: []string{"sh", "-c", "cp large.zip copy.zip && unzip -q large.zip -d out && sync"}, before: b.clear("out", "copy.zip")}
	_, err := b.compare(ctx, "a zip of 1 GB: added, and kept in the archive", side{name: "mods add", command: []string{b.ostrov, "mods", "add", "large.zip", "--yes"}, before: drop}, unzip, copied)
	return err
}

// largeZip writes a zip of about 1 GB: textures and sounds that hardly shrink, and text that does.
func largeZip(path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	w := zip.NewWriter(bufio.NewWriterSize(f, 1<<20))
	w.RegisterCompressor(zip.Deflate, func(out io.Writer) (io.WriteCloser, error) { return flate.NewWriter(out, flate.BestSpeed) })
	r := rand.New(rand.NewPCG(9, 9))
	block := make([]byte, 1<<20)
	for i := range 500 {
		e, err := w.Create(fmt.Sprintf("large/textures/t%03d.tex", i))
		if err != nil {
			return err
		}
		for range 2 {
			for k := 0; k+4 <= len(block); k += 4 {
				if v := r.Uint32(); v%8 != 0 {
					block[k], block[k+1], block[k+2], block[k+3] = byte(v), byte(v>>8), byte(v>>16), byte(v>>24)
				}
			}
			if _, err := e.Write(block); err != nil {
				return err
			}
		}
	}
	return errors.Join(w.Close(), f.Close())
}
