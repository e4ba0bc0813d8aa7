package hazard

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"io"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"testing/iotest"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func pe() string {
	b := make([]byte, 256)
	copy(b, "MZ")
	binary.LittleEndian.PutUint32(b[0x3c:], 0x80)
	copy(b[0x80:], "PE\x00\x00")
	return string(b)
}

func utf16(s string) string {
	b := "\xff\xfe"
	for _, c := range []byte(s) {
		b += string([]byte{c, 0})
	}
	return b
}

func zipped(s string) string {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write([]byte(s))
	_ = w.Close()
	return b.String()
}

// inBase64 is content as a value of JSON holds it, with the slashes that some writers escape.
func inBase64(content string) string {
	return `{"state": "` + strings.ReplaceAll(base64.StdEncoding.EncodeToString([]byte(content)), "/", `\/`) + `"}`
}

// escapedBase64 is content as other writers of JSON spell it: in lines, and nothing in it that HTML could take for its own.
func escapedBase64(content string) string {
	var b strings.Builder
	for line := range slices.Chunk([]byte(base64.StdEncoding.EncodeToString([]byte(content))), 76) {
		b.WriteString(strings.NewReplacer("+", `\u002B`, "/", `\u002f`).Replace(string(line)) + `\r\n`)
	}
	return `{"state":"` + b.String() + `"}`
}

// inLines breaks what is in Base64 as mail does.
func inLines(content string) string {
	var b strings.Builder
	for line := range slices.Chunk([]byte(base64.URLEncoding.EncodeToString([]byte(content))), 76) {
		b.WriteString(string(line) + "\r\n")
	}
	return b.String()
}

const (
	systemPickle = "\x80\x02cposix\x0asystem\x0aq\x00X\x04\x00\x00\x00trueq\x01\x85q\x02Rq\x03."
	dotNetObject = "\x00\x01\x00\x00\x00\xff\xff\xff\xff\x01\x00\x00\x00\x00\x00\x00\x00\x0c\x02\x00\x00\x00\x04Game"
	javaObject   = "\xac\xed\x00\x05sr\x00\x11java.util.HashMap"
)

const endOfZip = "PK\x05\x06\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"

// cases are files with what is to be found: "danger", "code" or "" for nothing, and a part of the reason.
var cases = []struct{ about, name, content, found, why string }{
	{"Windows program", "picture.png", pe(), "danger", "a Windows program"},
	{"Linux program", "save", "\x7fELF\x02\x01\x01", "danger", "a Linux program"},
	{"macOS program", "save", "\xcf\xfa\xed\xfe\x07\x00\x00\x01", "danger", "a macOS program"},
	{"Java class", "save", "\xca\xfe\xba\xbe\x00\x00\x00\x34", "danger", "a Java program"},
	{"packed program", "save.gz", zipped(pe()), "danger", "a Windows program"},
	{"program packed twice", "save.gz", zipped(zipped(pe())), "danger", "a Windows program"},
	{"script", "notes.txt", "#!/bin/sh\nrm -rf ~\n", "danger", "a script"},
	{"batch by content", "notes.txt", "@ECHO OFF\r\ndel *\r\n", "danger", "a script"},
	{"batch by ending", "START.BAT", "del *", "danger", "a script"},
	{"registry", "a.txt", "Windows Registry Editor Version 5.00\r\n", "danger", "registry"},
	{"shortcut", "a.txt", "[InternetShortcut]\r\nURL=file:///c:/x.exe\r\n", "danger", "a shortcut"},
	{"shell link", "a", "\x4c\x00\x00\x00\x01\x14\x02\x00\x00\x00\x00\x00\xc0\x00\x00\x00\x00\x00\x00\x46rest", "danger", "shortcut"},
	{"installer", "a", "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + strings.Repeat("\x00", 500) + string(installerClass), "danger", "installer"},
	{"package", "a", "!<arch>\ndebian-binary   ", "danger", "package"},
	{"named exe", "setup.exe", "not really", "danger", "named as a program"},
	{"Python source", "mod.py", "import os\nos.system('x')\n", "danger", "a script"},
	{"picture and zip", "a.png", "\x89PNG\r\n\x1a\n" + strings.Repeat("x", 300_000) + endOfZip, "danger", "at once"},

	{"Java objects", "a", "\xac\xed\x00\x05sr\x00\x01A", "code", "Java objects"},
	{".NET objects", "a", "\x00\x01\x00\x00\x00\xff\xff\xff\xff\x01\x00\x00\x00\x00\x00\x00\x00\x0c", "code", ".NET"},
	{"Lua bytecode", "a", "\x1bLua\x54", "code", "compiled Lua"},
	{"Lua function", "a.lua", "return {\n a = 1,\n f = function() return 1 end }", "code", `"function" in line 3`},
	{"Lua call", "a.lua", "x = {}\nos.execute('x')", "code", `a call of "execute" in line 2`},
	{"Lua call by text", "a.lua", "print 'x'", "code", "a call"},
	{"Lua call in brackets", "a", "return {['a'] = b['c']('d')}", "code", "a call"},
	{"Lua loop", "a.lua", "while true do end", "code", "while"},
	{"XML entities", "a.xml", "<?xml version='1.0'?><!DOCTYPE a [<!ENTITY b SYSTEM 'file:///etc/passwd'>]><a>&b;</a>", "code", "entities"},

	{"Lua data", "a.lua", "-- made by the game: f()\n--[[ g() ]]\nsave = { title = \"a(b)\", [1] = -2.5, ['x'] = { true, nil }, } return save", "", ""},
	{"Lua data in a loaded form", "a", "do local _ = {\n  name = [==[ x() ]] ]==],\n  n = 0x1F,\n}\nreturn _ end", "", ""},
	{"XML", "a.xml", "<?xml version='1.0'?><a>text</a>", "", ""},
	{"property list", "a.plist", "<?xml version='1.0'?><!DOCTYPE plist PUBLIC 'x' 'y'><plist/>", "", ""},
	{"picture", "a.png", "\x89PNG\r\n\x1a\n" + strings.Repeat("x", 300_000), "", ""},
	{"text about MZ", "a.txt", "MZ is how DOS programs begin, says this text, which is longer than a header of sixty-four bytes.", "", ""},
	{"text in parentheses", "a.txt", "(see the other file)\n.", "", ""},
	{"foreign letters", "Спасённый маяк.sav", "маяк", "", ""},
	{"JSON called js", "save.js", `{"a": 1}`, "", ""},
	{"zeros", "a", strings.Repeat("\x00", 4<<20), "", ""},
	{"packed zeros", "a.gz", zipped(strings.Repeat("\x00", 4<<20)), "", ""},
	{"empty", "a", "", "", ""},
	{"looks like zlib", "a", "x\x9cnot at all", "", ""},
	{"cut gzip", "a", zipped("some text that is long enough to be cut")[:30], "", ""},
	{"plain pickle 0", "s", "(dp0\x0aVa\x0ap1\x0a(lp2\x0aI1\x0aaF2.5\x0aaVx\x0ap3\x0aaNaI01\x0aa(I1\x0aI2\x0atp4\x0aaL10000000000000000000000000000000000000000L\x0aasI-5\x0a(dp5\x0aVt\x0ap6\x0aVtab\x09\xe9\x0ap7\x0ass.", "", ""},
	{"plain pickle 1", "s", "}q\x00(X\x01\x00\x00\x00aq\x01]q\x02(K\x01G@\x04\x00\x00\x00\x00\x00\x00X\x01\x00\x00\x00xq\x03NI01\x0a(K\x01K\x02tq\x04L10000000000000000000000000000000000000000L\x0aeJ\xfb\xff\xff\xff}q\x05X\x01\x00\x00\x00tq\x06X\x06\x00\x00\x00tab\x09\xc3\xa9q\x07su.", "", ""},
	{"plain pickle 2", "s", "\x80\x02}q\x00(X\x01\x00\x00\x00aq\x01]q\x02(K\x01G@\x04\x00\x00\x00\x00\x00\x00X\x01\x00\x00\x00xq\x03N\x88K\x01K\x02\x86q\x04\x8a\x11\x00\x00\x00\x00\x00a\xf5\xb9\xab\xbf\xa4\x5c\xc3\xf1)c\x1deJ\xfb\xff\xff\xff}q\x05X\x01\x00\x00\x00tq\x06X\x06\x00\x00\x00tab\x09\xc3\xa9q\x07su.", "", ""},
	{"plain pickle 3", "s", "\x80\x03}q\x00(X\x01\x00\x00\x00aq\x01]q\x02(K\x01G@\x04\x00\x00\x00\x00\x00\x00X\x01\x00\x00\x00xq\x03N\x88C\x01zq\x04K\x01K\x02\x86q\x05\x8a\x11\x00\x00\x00\x00\x00a\xf5\xb9\xab\xbf\xa4\x5c\xc3\xf1)c\x1deJ\xfb\xff\xff\xff}q\x06X\x01\x00\x00\x00tq\x07X\x06\x00\x00\x00tab\x09\xc3\xa9q\x08su.", "", ""},
	{"plain pickle 4", "s", "\x80\x04\x95P\x00\x00\x00\x00\x00\x00\x00}\x94(\x8c\x01a\x94]\x94(K\x01G@\x04\x00\x00\x00\x00\x00\x00\x8c\x01x\x94N\x88C\x01z\x94K\x01K\x02\x86\x94\x8a\x11\x00\x00\x00\x00\x00a\xf5\xb9\xab\xbf\xa4\x5c\xc3\xf1)c\x1deJ\xfb\xff\xff\xff}\x94\x8c\x01t\x94\x8c\x06tab\x09\xc3\xa9\x94su.", "", ""},
	{"plain pickle 5", "s", "\x80\x05\x95P\x00\x00\x00\x00\x00\x00\x00}\x94(\x8c\x01a\x94]\x94(K\x01G@\x04\x00\x00\x00\x00\x00\x00\x8c\x01x\x94N\x88C\x01z\x94K\x01K\x02\x86\x94\x8a\x11\x00\x00\x00\x00\x00a\xf5\xb9\xab\xbf\xa4\x5c\xc3\xf1)c\x1deJ\xfb\xff\xff\xff}\x94\x8c\x01t\x94\x8c\x06tab\x09\xc3\xa9\x94su.", "", ""},
	{"hostile pickle 0", "s", "cposix\x0asystem\x0ap0\x0a(Vtrue\x0ap1\x0atp2\x0aRp3\x0a.", "danger", "calls posix.system"},
	{"hostile pickle 2", "s", "\x80\x02cposix\x0asystem\x0aq\x00X\x04\x00\x00\x00trueq\x01\x85q\x02Rq\x03.", "danger", "calls posix.system"},
	{"hostile pickle 4", "s", "\x80\x04\x95\x1f\x00\x00\x00\x00\x00\x00\x00\x8c\x05posix\x94\x8c\x06system\x94\x93\x94\x8c\x04true\x94\x85\x94R\x94.", "danger", "calls posix.system"},
	{"eval pickle", "s", "\x80\x02c__builtin__\x0aeval\x0aq\x00X\x01\x00\x00\x001q\x01\x85q\x02Rq\x03.", "danger", "eval"},
	{"pickle without its mark", "s", "I1\n0cos\nsystem\n(S'x'\ntR.", "danger", "calls os.system"},
	{"pickle that begins with a frame", "s", "\x95\x20\x00\x00\x00\x00\x00\x00\x00\x8c\x02os\x94\x8c\x06system\x94\x93\x94\x8c\x01x\x94\x85\x94R\x94.", "danger", "calls os.system"},
	{"pickle that does not end", "s", "cos\nsystem\n(S'x'\ntRnonsense", "danger", "calls os.system"},
	{"name from the memo", "s", "\x80\x04\x8c\x02os\x94\x8c\x06system\x94" + "00h\x00h\x01\x93\x8c\x01x\x85R.", "danger", "calls os.system"},
	{"name made by a call", "s", "\x80\x04cbuiltins\nstr\n\x8c\x02os\x85R\x8c\x06system\x93\x8c\x01x\x85R.", "danger", "made up"},
	{"callable made by a call", "s", "\x80\x04cgame\nfind\n\x8c\x06system\x85R\x8c\x01x\x85R.", "danger", "what it makes"},
	{"method caller", "s", "\x80\x04coperator\nmethodcaller\n\x8c\x06system\x8c\x01x\x86R.", "danger", "operator.methodcaller"},
	{"module that runs", "s", "crunpy\n_run_code\n(S'x'\ntR.", "danger", "runpy._run_code"},
	{"what is inside of a class", "s", "\x80\x04\x8c\x04game\x8c\x17World.__class__.__mro__\x93\x8c\x01x\x85R.", "danger", "World.__class__"},
	{"objects of compiled Python", "s", "\x80\x04\x8c\x04game\x8c\x14__pyx_unpickle_World\x93)R.", "code", "__pyx_unpickle_World"},
	{"objects by themselves", "s", "\x80\x02ccopyreg\n__newobj__\ncgame\nWorld\n\x85R.", "code", "game World"},
	{"pickle by INST", "s", "(S'x'\nios\nsystem\n.", "danger", "os.system"},
	{"pickle by OBJ", "s", "(cos\nsystem\nS'x'\no.", "danger", "os.system"},
	{"pickle behind a header", "s", "SAVE0001\x80\x04\x8c\x02os\x8c\x06system\x93\x8c\x01x\x85R.", "danger", "os.system"},
	{"old pickle behind a header", "s", "SAVE0001cos\nsystem\n(S'x'\ntR.", "danger", "os.system"},
	{"objects of a game behind a header", "s", "SAVE0001\x80\x04\x8c\x04game\x8c\x05World\x93)\x81.", "code", "game World"},
	{".NET objects with another root", "s", "\x00\x07\x00\x00\x00\xff\xff\xff\xff\x01\x00\x00\x00\x00\x00\x00\x00\x0c\x02\x00\x00\x00", "code", ".NET"},
	{"Lua under another ending", "save.dat", "save = { a = 1 }\nos.execute('x')\n", "code", `a call of "execute" in line 2`},
	{"Lua functions under no ending", "save", "local function f(a, ...)\n  if a == 1 then return ... end\nend\nf(2)\n", "code", `"function"`},
	{"Lua method call", "save", "player:set { hp = 3 }", "code", `a call of "set"`},
	{"Ruby objects", "s", "\x04\x08[\x07i\x06o:\x09Game\x06:\x07@xi\x06", "code", "Ruby objects (Game)"},
	{"Ruby class", "s", "\x04\x08{\x06:\x06ac\x09File", "code", "Ruby objects (File)"},
	{"PHP objects", "s", `a:1:{s:1:"x";O:4:"Game":0:{}}`, "code", "PHP objects"},
	{"YAML of Python", "s.yml", "a: 1\nb: !!python/object/apply:os.system ['x']\n", "code", "!!python/object/apply:os.system"},
	{"YAML of Ruby", "s", "--- !ruby/object:Game\na: 1\n", "code", "!ruby/object:Game"},
	{"YAML of Java", "s", "!!javax.script.ScriptEngineManager [a]\n", "code", "YAML"},
	{"JSON with types", "s", `{"a": {"$type": "Game.World, Game", "x": 1}}`, "code", "$type"},
	{"JSON with types, far on", "s", `{"a": "` + strings.Repeat("x", 200_000) + `", "py/object": "os.x"}`, "code", "py/object"},
	{"JSON with classes", "s", `[{"@class": "org.game.World"}]`, "code", "@class"},
	{"engine resource with a script", "s", "[gd_resource type=\"Resource\" format=3]\n[sub_resource type=\"GDScript\" id=\"1\"]\nscript/source = \"x\"\n", "code", "engine"},
	{"engine resource with a foreign script", "s", "[gd_resource type=\"Resource\"]\n[ext_resource type=\"Script\" path=\"user://x.gd\" id=\"1\"]\n", "code", "user://x.gd"},
	{"XML entities far behind", "s", "<?xml version='1.0'?><!-- " + strings.Repeat("x", 70_000) + " --><!DOCTYPE a [<!ENTITY b 'c'>]><a/>", "code", "entities"},
	{"XML entities in UTF-16", "s", utf16("<?xml version='1.0'?><!DOCTYPE a [<!ENTITY b 'c'>]><a/>"), "code", "entities"},
	{"XML entities behind literals", "s", "<!DOCTYPE a SYSTEM '><!--' [<!NOTATION n SYSTEM ']><!--'><!ENTITY b 'c'>]><a/>", "code", "entities"},

	{"pickle in a value", "s", inBase64(systemPickle), "danger", "has in Base64 what calls posix.system"},
	{"old pickle in a value", "s", inBase64("cposix\nsystem\n(S'true'\ntR."), "danger", "has in Base64 what calls posix.system"},
	{"pickle far on in a value", "s", `{"a": "` + strings.Repeat("x ", 100_000) + `", "b":"` + base64.StdEncoding.EncodeToString([]byte(systemPickle)) + `"}`, "danger", "in Base64 what"},
	{"packed pickle in a value", "s", inBase64(zipped(systemPickle)), "danger", "in Base64 what"},
	{"pickle in a value in a value", "s", inBase64(zipped(inBase64(systemPickle))), "danger", "in Base64 what"},
	{"pickle in a value with escapes", "s", escapedBase64(systemPickle + "\xfb\xef\xff\xfb\xef\xff"), "danger", "in Base64 what"},
	{"packed pickle in a value with escaped lines", "s", escapedBase64(zipped(systemPickle + strings.Repeat("\xfb\xff", 200))), "danger", "in Base64 what"},
	{".NET objects behind an escape", "s", `{"a": "x\n", "b": "\u0041", "c": "AAEAAAD\u002f\u002F\/\/\/AQAAAAAAAAAMAgAAAARHYW1l"}`, "code", ".NET"},
	{"program in a value", "s", inBase64(pe()), "danger", "in Base64 what is a Windows program"},
	{".NET objects in an attribute", "s", `<a b='` + base64.StdEncoding.EncodeToString([]byte(dotNetObject)) + `'/>`, "code", ".NET"},
	{".NET objects in an element", "s", `<a>` + base64.StdEncoding.EncodeToString([]byte(dotNetObject)) + `</a>`, "code", ".NET"},
	{".NET objects in a list", "s", "a=1\nb=" + base64.StdEncoding.EncodeToString([]byte(dotNetObject)), "code", ".NET"},
	{"Java objects as all of a file", "s", base64.StdEncoding.EncodeToString([]byte(javaObject)), "code", "in Base64 what holds Java objects"},
	{"Java objects in lines", "s", inLines(javaObject + strings.Repeat("\xff\x00", 200)), "code", "in Base64 what holds Java objects"},
	{"packed JSON with types in a value", "s", inBase64(zipped(`{"$type": "Game.World, Game"}`)), "code", "$type"},
	{"JSON with types in UTF-16", "s", utf16(`{"$type": "Game.World, Game"}`), "code", "$type"},
	{"JSON with types in UTF-16 without a mark", "s", utf16(`{"$type": "Game.World, Game"}`)[2:], "code", "$type"},
	{"Lua in UTF-16", "s", utf16("save = { a = 1 }\nos.execute('x')\n"), "code", "execute"},
	{"registry in UTF-16", "a.txt", utf16("Windows Registry Editor Version 5.00\r\n"), "danger", "registry"},
	{"Lua that loads a text", "s", `loadstring("x")()`, "code", "loadstring"},
	{"Lua that runs a file", "s", `dofile "x.lua"`, "code", "dofile"},
	{"Lua with a module", "s", `require("os").execute("x")`, "code", "a call"},
	{"compiled Python", "s", "\xcb\x0d\x0d\x0a\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\xe3\x00", "danger", "compiled Python"},
	{"compiled script of an engine", "s", "GDSC\x0d\x00\x00\x00", "danger", "script of a game engine"},
	{"pack of an engine", "s", "GDPC\x02\x00\x00\x00", "code", "pack of a game engine"},

	{"a picture in a value", "s", inBase64("\x89PNG\r\n\x1a\n\x00\x00\x00\x0dIHDR\x00\x00\x00\x00"), "", ""},
	{"a plain pickle in a value", "s", inBase64("\x80\x02}q\x00X\x01\x00\x00\x00aq\x01X\x10\x00\x00\x00gAJjcG9zaXgKc3lzdGVtq\x02s."), "", ""},
	{"packed data in a value", "s", inBase64(zipped(`{"lamps": 7, "type": "Game.World, Game"}`)), "", ""},
	{"numbers in a value", "s", inBase64(strings.Repeat("\x04\x08\x00\x01", 20)), "", ""},
	{"words that begin so", "s", `{"a": "gAJustAWordOfManyLettersAndNoMore", "b": "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", "c": "H4sIveHeadedSnakesInTheGarden"}`, "", ""},
	{"a digest", "s", `{"a": "` + strings.Repeat("4d5a90", 12) + `"}`, "", ""},
	{"prose in UTF-16", "a.txt", utf16("The lamp (see below) burns; don't (ever) put it out.\n"), "", ""},
	{"numbers of 16 bits", "s", strings.Repeat("A\x00B\x00(\x00", 2000), "", ""},
	{"a note that says load", "note.txt", "load (1)\n", "", ""},
	{"lines of Windows", "a.txt", "\x0a\x0d\x0d\x0alines of an old machine", "", ""},

	{"Ruby data", "s", "\x04\x08{\x07:\x06ai\x06I\"\x06b\x06:\x06ET[\x07f\x081.5T", "", ""},
	{"PHP data", "s", `a:1:{s:1:"x";s:9:"O:4:Game:0";}`, "", ""},
	{"YAML", "s", "a: !!str 1\nb: !!binary aGk=\nc: it works!\n", "", ""},
	{"JSON that talks of types", "s", `{"$type": 3, "type": "Game.World, Game", "@type": "tree", "class": "a.b.C"}`, "", ""},
	{"engine resource", "s", "[gd_resource type=\"Resource\"]\n[ext_resource type=\"Script\" path=\"res://save.gd\" id=\"1\"]\n", "", ""},
	{"a name with a number", "note.txt", "Backup (2)\n", "", ""},
	{"a setting with brackets", "a.cfg", "color = rgb(1, 2, 3)\ntitle = town\n", "", ""},
	{"prose with brackets", "a.txt", "The lamp (see below) burns; don't (ever) put it out.\nSecond line (two).\n", "", ""},
	{"text that begins as opcodes do", "a.txt", "I am here\nVery well\nN.", "", ""},
	{"XML with a DOCTYPE", "s", "<!DOCTYPE html><p>&lt;!ENTITY</p>", "", ""},
	{"UTF-16 XML", "s", utf16("<?xml version='1.0'?><a>b</a>"), "", ""},
	{"version 1 of something", "s", "\x00\x07\x00\x00\x00\xff\xff\xff\xff\x01\x00\x00\x00\x00\x00\x00\x00\xff\xff\xff", "", ""},
	{"ordered pickle", "s", "\x80\x04\x95)\x00\x00\x00\x00\x00\x00\x00\x8c\x0bcollections\x94\x8c\x0bOrderedDict\x94\x93\x94)R\x94\x8c\x01a\x94K\x01s.", "code", "collections OrderedDict"},
	{"dated pickle", "s", "\x80\x02]q\x00cdatetime\x0adate\x0aq\x01c_codecs\x0aencode\x0aq\x02X\x05\x00\x00\x00\x07\xc3\xa4\x01\x02q\x03X\x06\x00\x00\x00latin1q\x04\x86q\x05Rq\x06\x85q\x07Rq\x08a.", "code", "datetime"},
}

func TestScan(t *testing.T) {
	for _, c := range cases {
		result, err := Scan(c.name, strings.NewReader(c.content))
		require.NoError(t, err, c.about)
		halves, err := Scan(c.name, iotest.HalfReader(strings.NewReader(c.content)))
		require.NoError(t, err, c.about)
		assert.Equal(t, result, halves, "%s, whatever is read at once", c.about)
		if c.found == "" {
			assert.Empty(t, result.Findings, c.about)
			continue
		}
		if !assert.Len(t, result.Findings, 1, c.about) {
			continue
		}
		assert.Equal(t, c.found == "danger", result.Findings[0].Severity == Danger, c.about)
		assert.Contains(t, result.Findings[0].Why, c.why, c.about)
	}
}

// repeated is a reader of one byte, many times.
type repeated struct{ left int64 }

func (r *repeated) Read(p []byte) (int, error) {
	if r.left <= 0 {
		return 0, io.EOF
	}
	n := int(min(int64(len(p)), r.left))
	clear(p[:n])
	r.left -= int64(n)
	return n, nil
}

func TestBombsInsideLayers(t *testing.T) {
	var bomb bytes.Buffer
	w, err := zstd.NewWriter(&bomb, zstd.WithEncoderLevel(zstd.SpeedFastest))
	require.NoError(t, err)
	_, err = io.Copy(w, &repeated{RatioFrom + 1<<20})
	require.NoError(t, err)
	require.NoError(t, w.Close())
	for about, content := range map[string]string{"one layer": bomb.String(), "two layers": zipped(bomb.String())} {
		result, err := Scan("save", strings.NewReader(content))
		require.NoError(t, err)
		require.Len(t, result.Findings, 1, about)
		assert.Contains(t, result.Findings[0].Why, "unpacks to more than")
	}
}

// TestManyPackedValues has a text of which each value unpacks a thousandfold: what is looked into is bounded, and the rest is said.
func TestManyPackedValues(t *testing.T) {
	value := `"` + base64.StdEncoding.EncodeToString([]byte(zipped(strings.Repeat(" ", headSize)))) + `",`
	for n, deeper := range map[int]bool{1000: false, maxPackedValues/headSize + 10: true} {
		result, err := Scan("save", strings.NewReader("["+strings.Repeat(value, n)+"0]"))
		require.NoError(t, err)
		assert.Empty(t, result.Findings)
		assert.Equal(t, deeper, result.Deeper, n)
	}
}

func TestAnUnreadableFileIsAnError(t *testing.T) {
	gone := errors.New("gone")
	_, err := Scan("a", io.MultiReader(strings.NewReader(zipped("x")[:12]), iotest.ErrReader(gone)))
	assert.ErrorIs(t, err, gone)
}

func TestDatabaseWithoutSQLite(t *testing.T) {
	_, err := Database(t.Context(), fstest.MapFS{"a": {Data: []byte("SQLite format 3\x00 and no more")}}, "a", 0)
	assert.Error(t, err)
}

func FuzzScan(f *testing.F) {
	for _, c := range cases {
		if len(c.content) < 10_000 {
			f.Add(c.name, []byte(c.content))
		}
	}
	f.Fuzz(func(t *testing.T, name string, content []byte) {
		_, err := Scan(name, bytes.NewReader(content))
		assert.NoError(t, err)
	})
}

func BenchmarkScan(b *testing.B) {
	content := []byte(strings.Repeat("row of a region; ", 1<<16))
	b.SetBytes(int64(len(content)))
	for b.Loop() {
		_, err := Scan("region", bytes.NewReader(content))
		require.NoError(b, err)
	}
}

// TestASmallFileTakesLittle: a download may have a hundred thousand of them.
func TestASmallFileTakesLittle(t *testing.T) {
	const files = 1000
	scan := func(name, content string) (each uint64) {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		for range files {
			_, err := Scan(name, strings.NewReader(content))
			require.NoError(t, err)
		}
		runtime.ReadMemStats(&after)
		return (after.TotalAlloc - before.TotalAlloc) / files
	}
	for name, content := range map[string]string{
		"a.txt": "wound = 3\n", "b.json": `{"a": 1}`, "c.xml": "<a/>", "d.lua": "return {1, 2}", "e.yml": "a: 1\n", "f.ini": "[a]\nb=1\n", "g.php": "a:1:{i:0;i:1;}", "h": "",
	} {
		assert.Less(t, scan(name, content), uint64(16<<10), "%s, in bytes", name)
	}
}
