// Package vettest makes downloads, good and hostile ones, with what vetting each must find: the table that says how far a player can believe vet.
//
// They are made of the saves of the demo world and generated anew each time.
package vettest

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"io"
	"os"
	"sort"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"

	"ostrov/internal/core/unpack"
	"ostrov/internal/core/unpack/unpacktest"
)

// Download is one download with exactly the codes of what vetting it must find, sorted; harmless ones may have notes only.
type Download struct {
	About, File string
	Data        []byte
	Want        string
	Harmless    bool
}

// All are all downloads, a third of them harmless.
func All(m *Maker) []Download {
	m.harmless()
	m.packers()
	m.neighbours()
	harmless := len(m.all)
	for i := range m.all {
		m.all[i].Harmless = true
	}
	m.paths()
	m.contents()
	m.readers()
	m.archives()
	m.code()
	m.databases()
	m.sizes()
	m.unsuitable()
	require.GreaterOrEqual(m.t, len(m.all), 320)
	require.GreaterOrEqual(m.t, 3*harmless, len(m.all)-2, "a third of them are harmless: %d of %d", harmless, len(m.all))
	return m.all
}

type files = []unpacktest.File

func gz(text string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(text))
	_ = z.Close()
	return b.String()
}

// zeros packs so many zeros as small as zstd can.
func zeros(t testing.TB, n int64) string {
	var b bytes.Buffer
	w, err := zstd.NewWriter(&b, zstd.WithEncoderLevel(zstd.SpeedFastest))
	require.NoError(t, err)
	_, err = io.CopyN(w, repeated(0), n)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.String()
}

// Maker makes downloads out of the demo's own saves.
type Maker struct {
	t      testing.TB
	voyage string // the JSON of Tidewrack's slot 1
	Bay    string // the XML of Brass Orchard's first bay
	world  []byte // a database of Night Tram
	all    []Download
}

// NewMaker makes downloads out of the saves of a demo world, in which path finds what lies there.
func NewMaker(t testing.TB, path func(parts ...string) string) *Maker {
	packed, err := os.Open(path("prefix", "drive_c", "users", "keeper", "Documents", "Tidewrack", "lit", "70431", "slot_00", "voyage.json.gz"))
	require.NoError(t, err)
	defer packed.Close()
	z, err := gzip.NewReader(packed)
	require.NoError(t, err)
	voyage, err := io.ReadAll(z)
	require.NoError(t, err)
	bay, err := os.ReadFile(path("player", "Orchards", "bay_a.orchard"))
	require.NoError(t, err)
	world, err := os.ReadFile(path("player", ".local", "share", "night-tram", "worlds", "Lower Town.tramworld"))
	require.NoError(t, err)
	return &Maker{t: t, world: world, voyage: strings.Replace(string(voyage), "Gannet Rock", "Another Rock", 1), Bay: strings.Replace(string(bay), "North Terrace", "East Terrace", 1)}
}

func (m *Maker) add(about, file string, data []byte, want ...string) {
	sort.Strings(want)
	m.all = append(m.all, Download{About: about, File: file, Data: data, Want: strings.Join(want, " ")})
}

// Slot is a voyage in a folder, edited: pairs of old and new text.
func (m *Maker) Slot(dir string, edits ...string) files {
	return files{{dir + "/voyage.json.gz", gz(m.edited(m.voyage, edits))}, {dir + "/chart.bin", "CHART"}}
}

func (m *Maker) edited(text string, edits []string) string {
	for i := 0; i < len(edits); i += 2 {
		require.Contains(m.t, text, edits[i])
		text = strings.Replace(text, edits[i], edits[i+1], 1)
	}
	return text
}

func (m *Maker) Zip(f files, more ...unpacktest.File) []byte {
	return unpacktest.Zip(m.t, append(f, more...)...)
}

func (m *Maker) harmless() {
	plain := m.Slot("slot_05")
	tar := unpacktest.Tar(m.t, false, plain...)
	m.add("zip", "a.zip", m.Zip(plain))
	m.add("called something else", "a.png", m.Zip(plain))
	m.add("tar", "a.tar", tar)
	for _, how := range []string{"gz", "xz", "zst", "lz4"} {
		m.add("tar."+how, "a.tar."+how, unpacktest.Packed(m.t, how, tar))
	}
	m.add("rar 4", "a.rar", unpacktest.Rar4(plain...))
	m.add("rar 5", "a.rar", unpacktest.Rar5(plain...))
	m.add("outer folder", "a.zip", m.Zip(m.Slot("All lamps lit/slot_05")))
	m.add("outer folders", "a.zip", m.Zip(m.Slot("a/b/c/d/e/slot_05")))
	m.add("own slot taken", "a.zip", m.Zip(m.Slot("slot_00")), "slot-taken")
	m.add("no slot in the name", "a.zip", m.Zip(m.Slot("My Voyage")), "name-differs")
	m.add("no folder", "a.zip", m.Zip(files{{"voyage.json.gz", gz(m.voyage)}, {"chart.bin", "CHART"}}), "name-differs")
	m.add("somebody else's", "a.zip", m.Zip(m.Slot("slot_05", "70431", "70112")), "owner-differs")
	m.add("litter", "a.zip", m.Zip(plain, unpacktest.File{"readme.txt", "hello"}, unpacktest.File{"Thumbs.db", "x"}, unpacktest.File{"__MACOSX/._x", "y"}), "litter")
	m.add("inside a zip", "a.zip", m.Zip(files{{"variant.zip", string(m.Zip(plain))}}))
	m.add("inside a rar", "a.zip", m.Zip(files{{"variant", string(unpacktest.Rar5(plain...))}}))
	m.add("inside a tar.gz", "a.zip", m.Zip(files{{"variant.tgz", string(unpacktest.Tar(m.t, true, plain...))}}))
	m.add("foreign letters", "a.zip", m.Zip(m.Slot("Спасённый маяк/灯台/ναός/slot_05")))
	cp437, _ := charmap.CodePage437.NewEncoder().String("Größe/slot_05")
	m.add("old western names", "a.zip", m.Zip(m.Slot(cp437)))
	cp1251, _ := charmap.Windows1251.NewEncoder().String("Ночь/slot_05")
	m.add("old Cyrillic names", "a.zip", m.Zip(m.Slot(cp1251)))
	sjis, _ := japanese.ShiftJIS.NewEncoder().String("灯台の夜/slot_05")
	m.add("old Japanese names", "a.zip", m.Zip(m.Slot(sjis)))
	m.add("very compressible", "a.zip", m.Zip(plain, unpacktest.File{"slot_05/sea.bin", strings.Repeat("\x00", 8<<20)}))
	for about, f := range map[string]unpacktest.File{
		"plain pickle": {"p.dat", "\x80\x04\x95\x0c\x00\x00\x00\x00\x00\x00\x00}\x94\x8c\x01a\x94K\x01s."}, "Lua data": {"d.lua", "return { a = 1, [\"b\"] = { true, nil, \"f()\" } }"},
		"XML without entities": {"x.xml", "<?xml version='1.0'?><!DOCTYPE plist PUBLIC 'a' 'b'><plist/>"}, "picture": {"p.png", "\x89PNG\r\n\x1a\n" + strings.Repeat("x", 9000)},
		"text about MZ": {"t.txt", "MZ begins programs of old, as everybody who reads this long line of more than sixty-four bytes knows."}, "JSON called js": {"s.js", `{"a":1}`},
		"almost a device": {"COMMON.txt", "x"}, "names of dots": {"..a/.b", "x"}, "packed text": {"n.gz", gz(strings.Repeat("note ", 1000))},
		"text in parentheses": {"q", "(see elsewhere)\n."}, "zlib by chance": {"z", "x\x9cnot packed at all"}, "empty": {"e", ""},
	} {
		inside := append(m.Slot("slot_05"), unpacktest.File{"slot_05/" + f[0], f[1]})
		m.add(about, "a.zip", m.Zip(inside))
		m.add(about+", rar", "a.rar", unpacktest.Rar5(inside...))
		if about == "picture" || about == "plain pickle" || about == "Lua data" || about == "empty" {
			m.add(about+", tar.xz", "a.tar.xz", unpacktest.Packed(m.t, "xz", unpacktest.Tar(m.t, false, inside...)))
		}
	}
	m.add("older, and fit", "a.zip", m.Zip(m.Slot("slot_05", `"version": "1.6.2"`, `"version": "1.6.0"`)), "save-older")
	m.add("a bay", "bay_e.orchard", []byte(m.Bay))
	m.add("a bay under any name", "winter by Ada.txt", []byte(m.Bay), "name-differs")
	m.add("a bay in a folder", "a.zip", m.Zip(files{{"x/y/bay_e.orchard", m.Bay}}))
	m.add("an older bay", "bay_e.orchard", []byte(m.edited(m.Bay, []string{`release="2.3"`, `release="2.2"`})), "save-older")
	chart := unpacktest.File{"slot_05/chart.bin", "CHART"}
	m.add("lines behind its end", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", gz(m.voyage + "\r\n\n \t")}, chart}))
	m.add("filled up with zeros", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", gz(m.voyage + strings.Repeat("\x00", 512))}, chart}))
	m.add("a bay with a note behind it", "bay_e.orchard", []byte(m.Bay+"<!-- kept by hand -->\n"))
	m.add("a voyage with a mark before it", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", gz("\ufeff" + m.voyage)}, chart}))
	m.add("a bay with lines of Windows", "bay_e.orchard", []byte(strings.ReplaceAll(m.Bay, "\n", "\r\n")))
	m.add("a bay with an instruction behind it", "bay_e.orchard", []byte(m.Bay+"<?keeper mole?>"))
	m.add("timetable", "n.timetable", []byte(lines("[timetable]", "title = N", "version = 3.1", "[/timetable]")), "mod-extra", "mod-extra", "mod-extra", "mod-extra", "mod-extra", "mod-extra")
}

func (m *Maker) paths() {
	for about, name := range map[string]string{
		"parent": "../x", "parent inside": "slot_05/../../x", "parent of parents": "../../../../etc/x", "backslash parent": `..\x`, "backslash inside": `slot_05\..\..\x`,
		"absolute": "/etc/x", "root by backslash": `\x`, "drive": "c:/x", "drive relative": "c:x", "network": `\\host\share\x`, "network by slash": "//host/share/x",
		"device": "slot_05/NUL", "device with ending": "slot_05/con.txt", "device with space": "slot_05/aux .txt", "device by superscript": "slot_05/COM¹.x", "console": "slot_05/CONIN$",
		"stream": "slot_05/a.txt:x", "trailing dot": "slot_05./x", "trailing space": "slot_05/x ", "control": "slot_05/\x1b[2Jx", "newline": "slot_05/a\nb", "direction": "slot_05/x\u202etxt.exe",
		"isolate": "slot_05/x\u2066y", "question mark": "slot_05/a?", "not UTF-8 anywhere": "slot_05/\u2028x\u202d",
		"too deep": strings.Repeat("a/", unpack.MaxDepth) + "x", "too long a name": "slot_05/" + strings.Repeat("n", unpack.MaxName+1), "only dots": "slot_05/..", "empty part": "slot_05//x",
	} {
		bad := unpacktest.File{name, "x"}
		m.add(about+", zip", "a.zip", m.Zip(m.Slot("slot_05"), bad), "dangerous")
		if !strings.Contains(about, "root") && !strings.HasPrefix(about, "network") { // a tar's writer refuses some
			m.add(about+", tar", "a.tar", unpacktest.Tar(m.t, false, append(m.Slot("slot_05"), bad)...), "dangerous")
		}
	}
	link := unpacktest.File{"slot_05/link", "-> ../../../../etc/passwd"}
	m.add("link, zip", "a.zip", m.Zip(m.Slot("slot_05"), link), "dangerous")
	m.add("link, tar", "a.tar.gz", unpacktest.Tar(m.t, true, append(m.Slot("slot_05"), link)...), "dangerous")
	m.add("case", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"Slot_05/Chart.bin", "x"}), "dangerous")
	m.add("accents", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"caf\u00e9", "x"}, unpacktest.File{"cafe\u0301", "y"}), "dangerous", "litter")
	m.add("file and folder", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/chart.bin/x", "x"}), "dangerous")
	m.add("twice", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/chart.bin", "other"}), "dangerous")
	m.add("hostile path in the archive inside", "a.zip", m.Zip(files{{"v.zip", string(m.Zip(m.Slot("slot_05"), unpacktest.File{"../x", "x"}))}}), "dangerous")
}

func (m *Maker) contents() {
	for about, f := range map[string]unpacktest.File{
		"Windows program": {"p.png", unpacktest.Program("pe")}, "Linux program": {"p", unpacktest.Program("elf")}, "script": {"p.txt", "#!/bin/sh\nx"}, "batch": {"p.bat", "del"},
		"batch by content": {"p.sav", "@echo off\r\ndel"}, "shortcut": {"p.txt", "[InternetShortcut]\r\nURL=file:x"}, "desktop entry": {"p", "[Desktop Entry]\nExec=x"},
		"registry": {"p.txt", "Windows Registry Editor Version 5.00\r\n"}, "Java class": {"p", "\xca\xfe\xba\xbe\x00\x00\x00\x34"}, "packed program": {"p.gz", gz(unpacktest.Program("pe"))},
		"picture and zip": {"p.png", "\x89PNG\r\n\x1a\n" + "PK\x05\x06" + strings.Repeat("\x00", 18)}, "hostile pickle": {"p.dat", "cposix\nsystem\n(S'true'\ntR."},
		"bomb in a layer": {"b.zst", zeros(m.t, 600<<20)},
	} {
		m.add(about, "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/" + f[0], f[1]}), "dangerous")
	}
	for about, f := range map[string]unpacktest.File{
		"pickle with a global": {"p.dat", "\x80\x02cgame\nWorld\n)\x81."}, "Lua code": {"p.lua", "os.execute('x')"}, "Lua bytecode": {"p", "\x1bLuaT"},
		"Java objects": {"p", "\xac\xed\x00\x05sr"}, ".NET objects": {"p", "\x00\x01\x00\x00\x00\xff\xff\xff\xff\x01\x00\x00\x00\x00\x00\x00\x00"},
		"XML entities": {"p.xml", "<?xml version='1.0'?><!DOCTYPE a [<!ENTITY b 'c'>]><a/>"},
	} {
		m.add(about, "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/" + f[0], f[1]}), "runs-code")
		m.add(about+", as litter", "a.zip", m.Zip(m.Slot("slot_05"), f), "litter")
	}
	bomb := m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/zeros", strings.Repeat("\x00", 1<<20)})
	at := bytes.LastIndex(bomb, []byte("PK\x01\x02"))
	binary.LittleEndian.PutUint32(bomb[at+24:], 0xfffffff0)
	m.add("bomb by its size", "a.zip", bomb, "dangerous")
	lie := m.Zip(m.Slot("slot_05"))
	copy(lie[30:], "slot_06")
	m.add("headers that disagree", "a.zip", lie, "dangerous")
	shared := m.Zip(files{{"slot_05/a", strings.Repeat("x", 99)}, {"slot_05/b", strings.Repeat("y", 99)}})
	first, last := bytes.Index(shared, []byte("PK\x01\x02")), bytes.LastIndex(shared, []byte("PK\x01\x02"))
	copy(shared[last+42:last+46], shared[first+42:first+46])
	m.add("contents that overlap", "a.zip", shared, "damaged", "dangerous", "dangerous", "not-a-save")
	m.add("something behind the end", "a.zip", append(m.Zip(m.Slot("slot_05")), "more"...), "dangerous")
	m.add("two ends", "a.zip", append(m.Zip(files{{"slot_05/a", "x"}}), m.Zip(m.Slot("slot_05"))...), "dangerous")
	locked := m.Zip(m.Slot("slot_05"))
	for i := 0; i+4 < len(locked); i++ {
		if bytes.HasPrefix(locked[i:], []byte("PK\x03\x04")) {
			locked[i+6] |= 1
		} else if bytes.HasPrefix(locked[i:], []byte("PK\x01\x02")) {
			locked[i+8] |= 1
		}
	}
	m.add("needs a password", "a.zip", locked, "encrypted", "encrypted", "not-a-save")
}

func (m *Maker) unsuitable() {
	m.add("newer", "a.zip", m.Zip(m.Slot("slot_05", `"version": "1.6.2"`, `"version": "1.7.0"`)), "save-newer")
	m.add("much older", "a.zip", m.Zip(m.Slot("slot_05", `"version": "1.6.2"`, `"version": "1.3.0"`)), "save-older")
	m.add("no version", "a.zip", m.Zip(m.Slot("slot_05", `"version": "1.6.2",`, "")), "not-a-save")
	m.add("a version that does not sort", "a.zip", m.Zip(m.Slot("slot_05", `"version": "1.6.2"`, `"version": "spring"`)), "no-rule")
	m.add("mod missing", "a.zip", m.Zip(m.Slot("slot_05", `"gull-post", "version"`, `"tar-works", "version"`)), "mod-missing")
	m.add("mod off", "a.zip", m.Zip(m.Slot("slot_05", `{"id": "lantern-core"`, `{"id": "old-charts", "version": "1.0.1"}, {"id": "lantern-core"`)), "mod-off")
	m.add("mod differs", "a.zip", m.Zip(m.Slot("slot_05", `"gull-post", "version": "1.4.2"`, `"gull-post", "version": "1.5.0"`)), "mod-differs")
	m.add("order differs", "a.zip", m.Zip(m.Slot("slot_05", `{"id": "fog-horns", "version": "1.1.0"}, `, "", `"mods": [`, `"mods": [{"id": "fog-horns", "version": "1.1.0"}, `)), "order-differs")
	m.add("mod merely seen", "a.zip", m.Zip(m.Slot("slot_05", `{"id": "lantern-core"`, `{"id": "never-used", "version": "1.0.0"}, {"id": "lantern-core"`)), "mod-missing")
	cut := gz(m.voyage)
	m.add("cut", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", cut[:len(cut)/2]}, {"slot_05/chart.bin", "CHART"}}), "damaged")
	m.add("not packed", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", m.voyage}, {"slot_05/chart.bin", "CHART"}}), "damaged")
	m.add("not JSON", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", gz("{\"title\": ")}, {"slot_05/chart.bin", "CHART"}}), "damaged")
	chart := unpacktest.File{"slot_05/chart.bin", "CHART"}
	m.add("written over a longer one", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", gz(m.voyage + m.voyage[len(m.voyage)-40:])}, chart}), "damaged")
	m.add("two voyages in one file", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", gz(m.voyage + "\n" + m.voyage)}, chart}), "damaged")
	m.add("a bay with words behind it", "bay_e.orchard", []byte(m.Bay+"fruit\n"), "damaged")
	m.add("a file missing", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", gz(m.voyage)}}), "incomplete")
	whole := m.Zip(m.Slot("slot_05"))
	m.add("zip cut", "a.zip", whole[:len(whole)-40], "damaged", "not-a-save")
	flipped := bytes.Clone(whole)
	flipped[60] ^= 0xff
	m.add("zip with a flipped bit", "a.zip", flipped, "damaged")
	m.add("several", "a.zip", m.Zip(append(m.Slot("10 lamps/slot_01"), m.Slot("40 lamps/slot_01")...)), "several-saves")
	m.add("nothing", "a.zip", m.Zip(files{{"readme.txt", "x"}}), "not-a-save")
	m.add("an empty zip", "a.zip", m.Zip(nil), "not-a-save")
	m.add("an empty file", "a.sav", nil, "not-a-save")
	m.add("noise", "a.sav", []byte("\x17\x99\xfe\x03 noise"), "not-a-save")
	m.add("a newer bay", "bay_e.orchard", []byte(m.edited(m.Bay, []string{`release="2.3"`, `release="2.9"`})), "save-newer")
	m.add("half a bay", "bay_e.orchard", []byte(m.Bay[:len(m.Bay)/2]), "damaged")
	m.add("a timetable that lacks a depot", "n.timetable", []byte(lines("[timetable]", "title = N", "version = 3.1", "[depot]", "id = deep", "version = 1", "[/depot]", "[stop]", "at = deep/stop", "[/stop]", "[/timetable]")),
		"mod-missing", "mod-extra", "mod-extra", "mod-extra", "mod-extra", "mod-extra", "mod-extra")
	m.add("a newer timetable", "n.timetable", []byte(lines("[timetable]", "title = N", "version = 4", "[/timetable]")), "save-newer", "mod-extra", "mod-extra", "mod-extra", "mod-extra", "mod-extra", "mod-extra")
}

func lines(list ...string) string { return strings.Join(list, "\n") + "\n" }
