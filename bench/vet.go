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

	core "ostrov/internal/core/refer"
)

// vet compares vetting with unzip -t on an honest zip of 500 MB, and the search for ten thousand identifiers in 300 MB with grep.
func vet(b *bench) error {
	ctx := context.Background()
	if err := honestZip(b.path("honest.zip")); err != nil {
		return err
	}
	if err := decodedSave(b.path("save.json"), b.path("ids")); err != nil {
		return err
	}
	fmt.Println("| what | Ostrov | the other | ratio |\n|---|---|---|---|")
	_, err1 := b.compare(ctx, "an honest zip of 500 MB", side{name: "vet", command: []string{b.ostrov, "vet", "honest.zip"}}, side{name: "unzip -t", command: []string{"unzip", "-tqq", "honest.zip"}})
	_, err2 := b.compare(ctx, "10,000 identifiers in 300 MB", side{name: "search", command: []string{b.self, "refer", b.path("ids"), b.path("save.json")}},
		side{name: "grep -c -F -f", command: []string{"grep", "-c", "-F", "-f", "ids", "save.json"}})
	return errors.Join(err1, err2)
}

// honestZip packs text, tables and noise, as saves have them, until the zip has 500 MB.
func honestZip(path string) (err error) {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	count := &counter{w: f}
	z := zip.NewWriter(count)
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) { return flate.NewWriter(w, flate.BestSpeed) })
	r := rand.New(rand.NewPCG(1, 2))
	buf := make([]byte, 4<<20)
	for i := 0; count.n < 500<<20; i++ {
		method := zip.Deflate
		switch i % 3 {
		case 0:
			fillText(buf, r)
		case 1:
			for j := range buf {
				buf[j] = byte(r.IntN(24))
			}
		default: // what is packed already
			method = zip.Store
			for j := range buf {
				buf[j] = byte(r.Uint32())
			}
		}
		e, err := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("world/region_%04d", i), Method: method})
		if err != nil {
			return err
		}
		if _, err := e.Write(buf); err != nil {
			return err
		}
	}
	return z.Close()
}

type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

// fillText fills b with lines like those of a save in text.
func fillText(b []byte, r *rand.Rand) {
	for at := 0; at < len(b); {
		line := fmt.Sprintf("{\"id\":\"island:%x_rock\",\"x\":%.2f,\"y\":%d,\"state\":\"lit by lamp keepers\"},\n", r.IntN(1<<20), r.Float64()*100, r.IntN(90))
		at += copy(b[at:], line)
	}
}

func decodedSave(save, ids string) (err error) {
	f, err := os.Create(ids)
	if err != nil {
		return err
	}
	for i := range 10_000 {
		fmt.Fprintf(f, "island:%x_thing_%d\n", i*7919, i)
	}
	if err := f.Close(); err != nil {
		return err
	}
	if f, err = os.Create(save); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	r := rand.New(rand.NewPCG(3, 4))
	buf := make([]byte, 1<<20)
	for range 300 {
		fillText(buf, r)
		if _, err := f.Write(buf); err != nil {
			return err
		}
	}
	return nil
}

// refer is the search alone, as a command: refer IDS FILE.
func refer(args []string) error {
	if len(args) != 2 {
		return errors.New("refer IDS FILE")
	}
	f, err := os.Open(args[0])
	if err != nil {
		return err
	}
	defer f.Close()
	var ids core.Identifiers
	for lines := bufio.NewScanner(f); lines.Scan(); {
		ids.Exact = append(ids.Exact, lines.Text())
	}
	in, err := os.Open(args[1])
	if err != nil {
		return err
	}
	defer in.Close()
	counts := core.Counts{}
	if err := core.New([]core.Identifiers{ids}).Read(in, args[1], counts); err != nil {
		return err
	}
	fmt.Println(len(counts))
	return nil
}
