package demo

import (
	"bytes"
	"compress/zlib"
	"context"
	"database/sql"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"
	_ "modernc.org/sqlite" // worlds are databases
)

// licence is the player's account in Night Tram; otherLicence is somebody else's.
const (
	licence      = "NT204417"
	otherLicence = "NT990001"
)

var depots = []modCard{
	{id: "copper-line", version: "1.4.0", title: "Copper Line"},
	{id: "rain-yard", version: "2.0.0", title: "Rain Yard"},
	{id: "sleeper-cars", version: "0.8.3", title: "Sleeper Cars", needs: []string{"copper-line"}},
	{id: "moth-lamps", version: "1.1.0", title: "Moth Lamps"},
	{id: "bell-tower", version: "3.2.0", title: "Bell Tower"},
	{id: "cable-hill", version: "1.0.2", title: "Cable Hill", needs: []string{"copper-line"}},
}

// tramWorld is a world of Night Tram.
type tramWorld struct {
	title, version, build string
	nights                int
	depots                []string // "id=version"
	built                 []string // whose things stand on the map, in turn
	trigger               bool
}

func allDepots(more ...string) []string {
	var all []string
	for _, d := range depots {
		all = append(all, d.id+"="+d.version)
	}
	return append(all, more...)
}

// squares are the rows of a world's map: a byte that says how they are packed, and a packed list of what stands there.
func (t tramWorld) squares() [][]byte {
	z, err := zstd.NewWriter(nil)
	if err != nil {
		panic(err) // with the usual settings: cannot fail
	}
	var rows [][]byte
	for i := range 48 {
		var b bytes.Buffer
		fmt.Fprintf(&b, "square %d: track, track, lamp", i)
		if len(t.built) > 0 && i%2 == 0 {
			fmt.Fprintf(&b, ", %s/stop, %s/rail", t.built[i/2%len(t.built)], t.built[i/2%len(t.built)])
		}
		rows = append(rows, append([]byte{1}, z.EncodeAll(b.Bytes(), nil)...))
	}
	return rows
}

// bytes makes the database in a file of its own and returns its content.
func (t tramWorld) bytes(scratch string) (data []byte, err error) {
	path := filepath.Join(scratch, "world.tramworld")
	db, err := sql.Open("sqlite", "file:"+filepath.ToSlash(path)+"?_pragma=journal_mode(delete)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	ctx := context.Background()
	run := func(query string, args ...any) {
		if err == nil {
			_, err = db.ExecContext(ctx, query, args...)
		}
	}
	run("CREATE TABLE about (key TEXT PRIMARY KEY, value TEXT)")
	run("CREATE TABLE depots (place INTEGER, id TEXT, version TEXT)")
	run("CREATE TABLE squares (at INTEGER PRIMARY KEY, data BLOB)")
	for _, row := range [][2]string{{"title", t.title}, {"version", t.version}, {"build", t.build}, {"nights", fmt.Sprint(t.nights)}} {
		run("INSERT INTO about VALUES (?, ?)", row[0], row[1])
	}
	for i, d := range t.depots {
		id, version, _ := strings.Cut(d, "=")
		run("INSERT INTO depots VALUES (?, ?, ?)", i, id, version)
	}
	for i, row := range t.squares() {
		run("INSERT INTO squares VALUES (?, ?)", i, row)
	}
	if t.trigger {
		run("CREATE TRIGGER free_fares AFTER UPDATE ON about BEGIN DELETE FROM depots; END")
	}
	if closeErr := db.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return nil, err
	}
	if data, err = os.ReadFile(path); err != nil {
		return nil, err
	}
	return data, os.Remove(path)
}

// roster is a container of drivers: magic, checksum, and packed chunks with the licence they drive under.
func roster(owner, version, title string, drivers ...string) []byte {
	chunk := func(tag string, data []byte) []byte {
		return append(binary.BigEndian.AppendUint32([]byte(tag), uint32(len(data))), data...)
	}
	head := make([]byte, 24)
	copy(head, owner)
	copy(head[8:], version)
	content := chunk("HEAD", append(append(head, title...), 0))
	var list []byte
	for i, d := range drivers {
		list = append(append(binary.BigEndian.AppendUint32(list, uint32(0x1000+i)), d...), 0)
	}
	content = append(content, chunk("DRVR", list)...)
	var packed bytes.Buffer
	z := zlib.NewWriter(&packed)
	_, _ = z.Write(content) // into memory: cannot fail
	_ = z.Close()
	file := binary.LittleEndian.AppendUint32([]byte("TRM1"), crc32.ChecksumIEEE(packed.Bytes()))
	return append(file, packed.Bytes()...)
}

// timetable is a text of nested blocks.
func timetable(title, version string, uses []string, lines ...string) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "[timetable]\ntitle = %q\nversion = %s\n", title, version)
	for _, u := range uses {
		id, v, _ := strings.Cut(u, "=")
		fmt.Fprintf(&b, "[depot]\nid = %s\nversion = %s\n[/depot]\n", id, v)
	}
	for i, l := range lines {
		fmt.Fprintf(&b, "[line]\nname = %q\nfirst = 2%d:40\n[stop]\nat = %s/stop\n[/stop]\n[stop]\nat = terminus\n[/stop]\n[/line]\n", fmt.Sprintf("N%d", i+1), i, l)
	}
	b.WriteString("[/timetable]\n")
	return []byte(b.String())
}

// tramData is where Night Tram keeps what belongs to the player.
func (w *World) tramData(parts ...string) string {
	return filepath.Join(append([]string{w.known().Data, "night-tram"}, parts...)...)
}

// tramGame is the install of Night Tram.
func (w *World) tramGame(parts ...string) string {
	return w.path(append([]string{"games", "NightTram"}, parts...)...)
}

func (w *World) ownTramWorlds() map[string]tramWorld {
	return map[string]tramWorld{
		"Lower Town.tramworld": {"Lower Town", "3.1", "3120", 214, allDepots(), []string{"copper-line", "sleeper-cars", "bell-tower"}, false},
		"Harbour Loop.tramworld": {"Harbour Loop", "3.1", "3120", 40, allDepots("fog-bell=0.3.0"),
			[]string{"copper-line", "fog-bell", "rain-yard"}, false},
		"Old Circle.tramworld": {"Old Circle", "2.9", "2711", 700, []string{"copper-line=1.0.0"}, []string{"copper-line"}, false},
		"Quiet Line.tramworld": {"Quiet Line", "3.0", "3004", 12, allDepots("gas-mantles=1.0.0"), []string{"rain-yard"}, false},
	}
}

func (w *World) nightTram(b *builder) {
	for _, exe := range []string{"night-tram.x86_64", "night-tram-plain.x86_64", "NightTram.exe"} {
		b.write(w.tramGame(exe), program(), days(50))
	}
	b.write(w.tramGame("release.txt"), []byte("Night Tram\nversion 3.1\nbuild 3120\n"), days(50))
	b.write(w.tramGame("tracks", "straight.track"), []byte("rail rail rail\n"), days(50))
	for i, d := range depots {
		card := fmt.Sprintf("[depot]\nid = %s\nversion = %s\ntitle = %s\ngame = >= 3\nneeds = %s\n", d.id, d.version, d.title, strings.Join(d.needs, ","))
		if d.id == "moth-lamps" {
			card += "not_with = gas-mantles\n"
		}
		b.files(w.tramGame("depots", d.id), []file{{"depot.ini", []byte(card)}, {"models.bin", bytes.Repeat([]byte(d.id), 300)}}, days(80+i))
	}
	b.write(w.tramData("licence.json"), jsonLine(`{"licence": %q, "name": "Night Clerk"}`, licence), days(90))
	b.write(w.tramData("options.ini"), []byte("[player]\nname = Marta Lampwick\n[play]\ndepots = open\nbells = 3\n"), days(30))
	for name, world := range w.ownTramWorlds() {
		data, err := world.bytes(w.Dir)
		if err != nil && b.err == nil {
			b.err = err
		}
		b.write(w.tramData("worlds", name), data, days(300-world.nights/3))
	}
	b.write(w.tramData("rosters", "roster_1.drivers"), roster(licence, "3.1", "Night shift", "Anna", "Bo", "Cleo"), days(3))
	b.write(w.tramData("rosters", "roster_2.drivers"), roster(licence, "3.0", "Early shift", "Dora"), days(40))
	b.write(w.tramData("timetables", "winter.timetable"), timetable("Winter nights", "3.1", []string{"copper-line=1.4.0", "rain-yard=2.0.0"}, "copper-line", "rain-yard"), days(6))
}

func (w *World) tramDownloads(b *builder) {
	when := days(4)
	world := func(t tramWorld) []byte {
		data, err := t.bytes(w.Dir)
		if err != nil && b.err == nil {
			b.err = err
		}
		return data
	}
	viaduct := world(tramWorld{"Viaduct", "3.1", "3120", 88, allDepots(), []string{"bell-tower", "cable-hill"}, false})
	w.download(b, "viaduct.zip", zipped([]file{{"Viaduct/Viaduct.tramworld", viaduct}, {"Viaduct/about.txt", []byte("Eighty-eight nights.\n")}}, when), when)
	w.download(b, "free-fares.tramworld", world(tramWorld{"Free Fares", "3.1", "3120", 2, allDepots(), []string{"rain-yard"}, true}), when)
	w.download(b, "night-owls.drivers", roster(otherLicence, "3.1", "Night owls", "Otto", "Petra"), when)
	cut := roster(otherLicence, "3.1", "Half a shift", "Quin")
	cut[len(cut)-3] ^= 0x40
	w.download(b, "half-a-shift.drivers", cut, when)
	w.download(b, "tunnel.timetable", timetable("Tunnel nights", "3.1", []string{"deep-tunnel=1.2.0"}, "deep-tunnel", "deep-tunnel", "copper-line"), when)
	w.download(b, "gas-mantles.zip", zipped([]file{
		{"gas-mantles/depot.ini", []byte("[depot]\nid = gas-mantles\nversion = 1.0.0\ntitle = Gas Mantles\ngame = >= 3\n")}, {"gas-mantles/models.bin", []byte("mantle")},
	}, when), when)
}

// PlayTram stands for an evening of Night Tram: it writes a world and the game's log, as the game does.
func (w *World) PlayTram() error {
	b := &builder{}
	t := w.ownTramWorlds()["Lower Town.tramworld"]
	t.nights++
	data, err := t.bytes(w.Dir)
	if err != nil {
		return err
	}
	b.err = os.WriteFile(w.tramData("worlds", "Lower Town.tramworld"), data, 0o644)
	var log strings.Builder
	log.WriteString("night begins\nworld Lower Town\n")
	for _, d := range depots {
		if d.id == "bell-tower" {
			log.WriteString("depot bell-tower stays shut: models.bin is older than the game\n")
			continue
		}
		fmt.Fprintf(&log, "depot %s %s opened\n", d.id, d.version)
	}
	log.WriteString("fault: no bell for stop 12\n")
	if b.err == nil {
		b.err = os.WriteFile(w.tramData("session.log"), []byte(log.String()), 0o644)
	}
	return b.err
}
