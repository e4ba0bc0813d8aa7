package vettest

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"ostrov/internal/core/bag"
	"ostrov/internal/core/unpack/unpacktest"
)

type (
	raw    = unpacktest.Raw
	header = unpacktest.RawHeader
)

// raw is a good save as entries of a zip, with more behind.
func (m *Maker) raw(more ...raw) []raw {
	var all []raw
	for _, f := range m.Slot("slot_05") {
		all = append(all, raw{File: f})
	}
	return append(all, more...)
}

// with is a good save of which the two headers of its second file are changed.
func (m *Maker) with(local, central func(h *header), behind string) []byte {
	all := m.raw()
	all[1].Local, all[1].Central, all[1].Behind = local, central, behind
	return unpacktest.RawZip(nil, all...)
}

// packers are what the usual packers make of a zip beyond the usual.
func (m *Maker) packers() {
	const chart = "CHART"
	later := func(h *header) { h.Flags, h.CRC, h.Packed, h.Size = 8, 0, 0, 0 }
	flagged := func(h *header) { h.Flags = 8 }
	m.add("stored", "a.zip", unpacktest.RawZip(nil, m.raw()...))
	m.add("sizes behind the content", "a.zip", m.with(later, flagged, unpacktest.Described(chart)))
	m.add("sizes behind the content, without a mark", "a.zip", m.with(later, flagged, unpacktest.Described(chart)[4:]))
	m.add("sizes before and behind", "a.zip", m.with(flagged, flagged, unpacktest.Described(chart)))
	m.add("ZIP64, before the content only", "a.zip", m.with(func(h *header) { h.Packed, h.Size, h.Extra = 0xffffffff, 0xffffffff, unpacktest.Zip64(5, 5) }, nil, ""))
	m.add("ZIP64, in both places", "a.zip", m.with(func(h *header) { h.Packed, h.Size, h.Extra = 0xffffffff, 0xffffffff, unpacktest.Zip64(5, 5) },
		func(h *header) { h.Packed, h.Size, h.Extra = 0xffffffff, 0xffffffff, unpacktest.Zip64(5, 5) }, ""))
	m.add("ZIP64 that says the same again", "a.zip", m.with(nil, func(h *header) { h.Extra = unpacktest.Zip64(5, 5) }, ""))
	m.add("other extra fields", "a.zip", m.with(func(h *header) { h.Extra = unpacktest.Extra(0x5455, make([]byte, 9)) }, func(h *header) { h.Extra = unpacktest.Extra(0x5455, make([]byte, 5)) }, ""))
	old := "slot_05/M\x94we.txt" // CP437
	m.add("an old name and its Unicode one", "a.zip", unpacktest.RawZip(nil, m.raw(raw{File: unpacktest.File{old, "x"}, Central: func(h *header) { h.Extra = unpacktest.UnicodePath(old, "slot_05/Möwe.txt") }})...))
	m.add("a Unicode name in both headers", "a.zip", unpacktest.RawZip(nil, m.raw(raw{File: unpacktest.File{old, "x"}, Local: func(h *header) { h.Extra = unpacktest.UnicodePath(old, "slot_05/Möwe.txt") },
		Central: func(h *header) { h.Extra = unpacktest.UnicodePath(old, "slot_05/Möwe.txt") }})...))
	m.add("space between the files", "a.zip", unpacktest.RawZip(nil, m.raw(raw{File: unpacktest.File{"slot_05/x", "x"}, Before: strings.Repeat("\x00", 100)})...))
	m.add("packed on Unix", "a.zip", m.with(nil, func(h *header) { h.Made, h.Attributes = 3<<8, 0o100644<<16 }, ""))
	m.add("packed by a Windows program, with attributes", "a.zip", m.with(nil, func(h *header) { h.Attributes = 0x20 }, ""))
	var backslashes files
	for _, f := range m.Slot("slot_05") {
		backslashes = append(backslashes, unpacktest.File{strings.ReplaceAll(f[0], "/", `\`), f[1]})
	}
	m.add("packed with backslashes", "a.zip", m.Zip(backslashes))
	m.add("folders as entries", "a.zip", unpacktest.RawZip(nil, append([]raw{{File: unpacktest.File{"slot_05/", ""}}}, m.raw()...)...))
	m.add("folders of a Mac beside it", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"__MACOSX/slot_05/._chart.bin", "\x00\x05\x16\x07"}), "litter")
	m.add("7z", "a.7z", unpacktest.SevenZip(m.Slot("slot_05")...))
	m.add("7z in a folder", "a.7z", unpacktest.SevenZip(m.Slot("x/slot_05")...))
	tar := unpacktest.Tar(m.t, false, m.Slot("slot_05")...)
	m.add("tar with much at its end", "a.tar", append(bytes.Clone(tar), make([]byte, 20*512)...))
	m.add("tar.gz in two parts", "a.tar.gz", append(unpacktest.Packed(m.t, "gz", tar[:700]), unpacktest.Packed(m.t, "gz", tar[700:])...))
	m.add("tar.xz in two parts", "a.tar.xz", append(unpacktest.Packed(m.t, "xz", tar[:700]), unpacktest.Packed(m.t, "xz", tar[700:])...))
	m.add("tar.gz with zeros behind it", "a.tar.gz", append(unpacktest.Packed(m.t, "gz", tar), make([]byte, 700)...))
	m.add("a tar with a note for all files", "a.tar", slices.Concat(m.entry('g', "pax_global_header", record("comment", strings.Repeat("0", 40))), tar))
	m.add("a tar with a long name, twice said alike", "a.tar", slices.Concat(m.entry('x', "x", record("path", "slot_05/x")), m.entry('0', "slot_05/x", "y"), tar))
	holes := m.entry('S', "slot_05/holes", strings.Repeat("x", 512)) // GNU tar, "Storing Sparse Files": one piece behind a hole, and how long it all is
	copy(holes[257:], "ustar  \x00")
	copy(holes[386:], "00000010000\x0000000001000\x00")
	copy(holes[483:], "00000011000\x00")
	m.sumTar(holes)
	m.add("a tar with holes", "a.tar", slices.Concat(tar[:len(tar)-1024], holes, make([]byte, 1024)))
	m.add("a parcel", "a.zip", m.parcel("", "tidewrack", ""))
	m.add("a save in three archives", "a.zip", m.Zip(files{{"b.zip", string(m.Zip(files{{"c.zip", string(m.Zip(m.Slot("slot_05")))}}))}}))
	for _, what := range []struct{ about, content string }{{"zip", string(m.Zip(files{{"a", "x"}}))}, {"tar", string(unpacktest.Tar(m.t, false, unpacktest.File{"a", "x"}))}, {"7z", string(unpacktest.SevenZip(unpacktest.File{"a", "x"}))}} {
		m.add("a save that holds a "+what.about, "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/inner.dat", what.content}))
		m.add("a save that holds a "+what.about+", in a tar", "a.tar", unpacktest.Tar(m.t, false, append(m.Slot("slot_05"), unpacktest.File{"slot_05/inner.dat", what.content})...))
	}
}

// parcel is a parcel of a good save, with a file of BagIt that tells where to fetch others, unless that is "", and with what it says of the save's
// digest.
func (m *Maker) parcel(fetch, game, digest string) []byte {
	var b bytes.Buffer
	w := bag.NewWriter(&b, "parcel", time.Unix(1_700_000_000, 0))
	require.NoError(m.t, w.Text("data/needs.json", []byte(fmt.Sprintf(`{"ostrov_needs": 1, "game": %q, "save": {"name": "slot_05"%s}}`, game, digest))))
	for _, f := range m.Slot("data/save/slot_05") {
		require.NoError(m.t, w.Text(f[0], []byte(f[1])))
	}
	if fetch != "" {
		require.NoError(m.t, w.Text("fetch.txt", []byte(fetch)))
	}
	require.NoError(m.t, w.Close("a save"))
	return b.Bytes()
}

// readers are zips that one reader understands otherwise than another.
func (m *Maker) readers() {
	local := func(about string, change func(h *header)) {
		m.add("before the content: "+about, "a.zip", m.with(change, nil, ""), "dangerous")
	}
	local("a name that leads out", func(h *header) { h.Name = "../x" })
	local("the name of a program", func(h *header) { h.Name = "slot_05/chart.bat" })
	local("a longer name", func(h *header) { h.Name += ".exe" })
	local("no name", func(h *header) { h.Name = "" })
	local("a smaller size", func(h *header) { h.Size = 1 })
	local("a larger size", func(h *header) { h.Size = 5000 })
	local("another packed size", func(h *header) { h.Packed = 2 })
	local("both sizes smaller", func(h *header) { h.Packed, h.Size = 2, 2 })
	local("another checksum", func(h *header) { h.CRC++ })
	local("another method", func(h *header) { h.Method = 8 })
	local("a password", func(h *header) { h.Flags = 1 })
	local("ZIP64 that says otherwise", func(h *header) { h.Extra = unpacktest.Zip64(1, 1) })
	local("ZIP64 that lacks a size", func(h *header) { h.Packed, h.Size, h.Extra = 0xffffffff, 0xffffffff, unpacktest.Zip64(5) })
	local("a Unicode name of its own", func(h *header) { h.Extra = unpacktest.UnicodePath(h.Name, "slot_05/run.bat") })
	m.add("in the directory: ZIP64 that says otherwise", "a.zip", m.with(nil, func(h *header) { h.Extra = unpacktest.Zip64(1, 1, 0) }, ""), "dangerous")
	m.add("in the directory: ZIP64 whose first number is not the size", "a.zip", m.with(nil, func(h *header) { h.Packed, h.Extra = 0xffffffff, unpacktest.Zip64(5, 9) }, ""), "dangerous")
	m.add("in the directory: a Unicode name of a plain one", "a.zip", m.with(nil, func(h *header) { h.Extra = unpacktest.UnicodePath(h.Name, "slot_05/chart.bin2") }, ""), "dangerous", "incomplete")
	m.add("in the directory: a harmless Unicode name of one that leads out", "a.zip", unpacktest.RawZip(nil, m.raw(raw{File: unpacktest.File{"../M\x94we", "x"},
		Central: func(h *header) { h.Extra = unpacktest.UnicodePath(h.Name, "slot_05/x") }})...), "dangerous")
	m.add("in the directory: a link, said to be packed elsewhere", "a.zip", m.with(nil, func(h *header) { h.Attributes = 0o120777 << 16 }, ""), "dangerous", "incomplete")
	wrong := func(h *header) { h.Flags = 8 }
	m.add("behind the content: another size", "a.zip", m.with(func(h *header) { h.Flags, h.CRC, h.Packed, h.Size = 8, 0, 0, 0 }, wrong, unpacktest.Described("other")), "damaged", "dangerous")
	hidden := unpacktest.LocalFile(unpacktest.File{"slot_05/run.bat", "del *"})
	for where, zip := range map[string][]byte{
		"between":                 unpacktest.RawZip(nil, m.raw(raw{File: unpacktest.File{"slot_05/x", "x"}, Before: hidden})...),
		"between, behind zeros":   unpacktest.RawZip(nil, m.raw(raw{File: unpacktest.File{"slot_05/x", "x"}, Before: strings.Repeat("\x00", 5000) + hidden})...),
		"first":                   unpacktest.RawZip(nil, append([]raw{{File: m.Slot("slot_05")[0], Before: hidden}}, m.raw()[1:]...)...),
		"last":                    unpacktest.RawZip(nil, append(m.raw()[:1], raw{File: m.Slot("slot_05")[1], Behind: hidden})...),
		"behind the content":      m.with(func(h *header) { h.Flags = 8 }, wrong, unpacktest.Described("CHART")+hidden),
		"a whole zip in a middle": unpacktest.RawZip(nil, m.raw(raw{File: unpacktest.File{"slot_05/x", "x"}, Before: string(m.Zip(files{{"../x", "x"}}))})...),
	} {
		m.add("a file that only a stream shows: "+where, "a.zip", zip, "dangerous")
	}
	m.add("an end that counts fewer", "a.zip", unpacktest.RawZip(func(e *unpacktest.RawEnd) { e.Count-- }, m.raw()...), "damaged", "not-a-save")
	m.add("an end that counts more", "a.zip", unpacktest.RawZip(func(e *unpacktest.RawEnd) { e.Count++ }, m.raw()...), "damaged", "not-a-save")
	m.add("backslashes that lead out", "a.zip", m.Zip(files{{`slot_05\a`, "x"}, {`..\x`, "x"}}), "dangerous", "not-a-save")
	m.add("something before the end", "a.zip", unpacktest.RawZip(func(e *unpacktest.RawEnd) { e.Before = "more" }, m.raw()...), "dangerous")
}

// archives are archives that go on behind their end, hold links, or have been altered.
func (m *Maker) archives() {
	slot := m.Slot("slot_05")
	noise := strings.Repeat("\x9d\x03\xc7\x51\xea\x2b\x88\x16", 64)
	tar := unpacktest.Tar(m.t, false, append(slot, unpacktest.File{"slot_05/noise", noise})...)
	second := unpacktest.Tar(m.t, false, unpacktest.File{"slot_05/run.bat", "del *"})
	for _, how := range []string{"", "gz", "xz", "zst", "lz4"} {
		pack := func(data []byte) []byte {
			if how == "" {
				return data
			}
			return unpacktest.Packed(m.t, how, data)
		}
		name := strings.TrimSuffix("a.tar."+how, ".")
		m.add("a second tar behind the first, "+name, name, pack(append(bytes.Clone(tar), second...)), "dangerous")
		m.add("something behind a tar, "+name, name, pack(append(bytes.Clone(tar), "more"...)), "dangerous")
		m.add("a tar cut between files, "+name, name, pack(tar[:len(tar)-1024]), "damaged")
		if packed := pack(tar); how != "" {
			m.add("a packed tar cut at its end, "+name, name, packed[:len(packed)-2], m.damaged(how)...)
		}
	}
	huge := bytes.Clone(tar)
	copy(huge[124:], "\x80\x00\x00\x00\x40\x00\x00\x00\x00\x00\x00\x00") // base 256
	m.sumTar(huge)
	m.add("a tar with a file of 4 EB", "a.tar", huge, "dangerous", "not-a-save")
	for about, kind := range map[string]byte{"hard link": '1', "device": '3', "pipe": '6'} {
		with := unpacktest.Tar(m.t, false, append(files{{"slot_05/link", "-> chart.bin"}}, slot...)...)
		with[156] = kind
		m.sumTar(with)
		m.add("a tar with a "+about, "a.tar", with, "dangerous")
	}
	hidden := m.entry('0', "slot_05/more.txt", "more")
	for about, before := range map[string][]byte{
		"another name for all files":        m.entry('g', "all", record("path", "slot_05/more.txt")),
		"another size for all files":        m.entry('g', "all", record("size", "0")),
		"two names of a file":               slices.Concat(m.entry('L', "././@LongLink", "slot_05/more.txt\x00"), m.entry('x', "x", record("path", "slot_05/x")), m.entry('0', "y", "z")),
		"a folder with a file as its bytes": m.entry('5', "slot_05/x", string(hidden)),
	} {
		m.add("a tar with "+about, "a.tar", slices.Concat(before, tar), "dangerous")
		m.add("a tar.gz with "+about, "a.tar.gz", unpacktest.Packed(m.t, "gz", slices.Concat(before, tar)), "dangerous")
	}
	for about, mark := range map[string]string{"symbolic link": "-> ", "link of Windows": "w> ", "junction": "j> ", "hard link": "h> ", "copy of another file": "c> "} {
		m.add("a rar with a "+about, "a.rar", unpacktest.Rar5(append(m.Slot("slot_05"), unpacktest.File{"slot_05/x", mark + "../../x"})...), "dangerous")
	}
	flip := func(data []byte, near string) []byte {
		at := bytes.Index(data, []byte(near))
		require.Positive(m.t, at, "the content is stored")
		data = bytes.Clone(data)
		data[at+3] ^= 0x10
		return data
	}
	altered := append(slot, unpacktest.File{"slot_05/noise", noise})
	m.add("a flipped bit in a 7z", "a.7z", flip(unpacktest.SevenZip(altered...), "\x9d\x03\xc7\x51"), "damaged")
	m.add("a flipped bit in a rar 4", "a.rar", flip(unpacktest.Rar4(altered...), "\x9d\x03\xc7\x51"), "damaged")
	m.add("a flipped bit in a rar 5", "a.rar", flip(unpacktest.Rar5(altered...), "\x9d\x03\xc7\x51"), "damaged")
	all := m.raw(raw{File: unpacktest.File{"slot_05/noise", noise}})
	m.add("a flipped bit in a zip", "a.zip", flip(unpacktest.RawZip(nil, all...), "\x9d\x03\xc7\x51"), "damaged", "mods-unknown", "no-rule")
	for _, how := range []string{"gz", "xz", "zst", "lz4"} {
		packed := unpacktest.Packed(m.t, how, tar)
		if how == "gz" {
			packed[len(packed)-6] ^= 1 // in its checksum
		} else {
			packed[len(packed)-2] ^= 1
		}
		m.add("a flipped bit at the end of a tar."+how, "a.tar."+how, packed, m.damaged(how)...)
	}
	m.add("a parcel that has files fetched", "a.zip", m.parcel("http://example.test/x 3 data/save/slot_05/run.bat\n", "tidewrack", ""), "damaged")
	m.add("a parcel of an unknown game", "a.zip", m.parcel("", "nowhere", ""))
	m.add("a parcel that tells of another save", "a.zip", m.parcel("", "tidewrack", `, "digest": "blake3:`+strings.Repeat("07", 32)+`"`), "damaged")
	deep := m.Zip(files{{"../x", "x"}})
	for range 3 {
		deep = m.Zip(files{{"z", string(deep)}})
	}
	m.add("a hostile path three archives deep", "a.zip", deep, "dangerous", "not-a-save")
	m.add("what lies too deep", "a.zip", m.Zip(files{{"z", string(deep)}}), "not-a-save", "not-looked-into")
}

// damaged are the findings of a packed tar with damage at its end: of zstd, all of a small file is one part, and nothing of it is read then.
func (m *Maker) damaged(how string) []string {
	if how == "zst" {
		return []string{"damaged", "not-a-save"}
	}
	return []string{"damaged"}
}

// entry is one entry of a tar, of a kind (POSIX.1-2017, pax, typeflag).
func (m *Maker) entry(kind byte, name, content string) []byte {
	one := unpacktest.Tar(m.t, false, unpacktest.File{name, content})
	one = one[:len(one)-1024]
	one[156] = kind
	m.sumTar(one)
	return one
}

// record is one of an extended header of a tar, with its own length before it.
func record(key, value string) string {
	text := " " + key + "=" + value + "\n"
	n := len(text)
	for n < len(text)+len(strconv.Itoa(n)) {
		n++
	}
	return strconv.Itoa(n) + text
}

// sumTar makes the checksum of the first header of a tar right.
func (m *Maker) sumTar(tar []byte) {
	copy(tar[148:156], "        ")
	sum := 0
	for _, c := range tar[:512] {
		sum += int(c)
	}
	copy(tar[148:], fmt.Sprintf("%06o\x00 ", sum))
}
