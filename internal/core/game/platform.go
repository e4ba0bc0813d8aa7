package game

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"

	"github.com/adrg/xdg"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"ostrov/internal/core/tree"
)

// Known are the known folders of one player on one platform. An empty one does not exist there.
type Known struct {
	Home, Documents, SavedGames, AppData, LocalAppData, LocalLow, Config, Data string
	// FoldsCase tells that names which differ in case only are one name.
	FoldsCase bool
}

func (k Known) place(name string) string {
	return map[string]string{"home": k.Home, "documents": k.Documents, "saved_games": k.SavedGames, "app_data": k.AppData,
		"local_app_data": k.LocalAppData, "local_low": k.LocalLow, "config": k.Config, "data": k.Data}[name]
}

// all are the folders there are.
func (k Known) all() []string {
	var all []string
	for _, name := range places {
		if p := k.place(name); p != "" {
			all = append(all, p)
		}
	}
	return all
}

// NativeKnown are the known folders of the player who runs Ostrov.
func NativeKnown() (Known, error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return Known{}, err
	}
	k := Known{Home: home, Documents: xdg.UserDirs.Documents, Config: xdg.ConfigHome, Data: xdg.DataHome, FoldsCase: runtime.GOOS != "linux"}
	return k, windowsKnown(&k)
}

// HomeKnown are the known folders below another player's home, by the habits of this platform; so does an unplugged drive or a server's
// account come in reach.
func HomeKnown(home string) Known {
	k := Known{Home: home, Documents: filepath.Join(home, "Documents")}
	switch runtime.GOOS {
	case "windows":
		appData := filepath.Join(home, "AppData")
		k.AppData, k.LocalAppData, k.LocalLow = filepath.Join(appData, "Roaming"), filepath.Join(appData, "Local"), filepath.Join(appData, "LocalLow")
		k.SavedGames, k.Config, k.Data, k.FoldsCase = filepath.Join(home, "Saved Games"), k.LocalAppData, k.LocalAppData, true
	case "darwin":
		k.Config = filepath.Join(home, "Library", "Application Support")
		k.Data, k.FoldsCase = k.Config, true
	default:
		k.Config, k.Data = filepath.Join(home, ".config"), filepath.Join(home, ".local", "share")
	}
	return k
}

// maxRegistry bounds the registry file of a prefix, in bytes.
const maxRegistry = 64 << 20

// prefixKnown are the known folders inside a compatibility prefix: a folder that a Windows program takes for its drives. They are read from
// the prefix's registry, user.reg, and where that does not say, they are where Windows has them by default.
func prefixKnown(prefix string) (Known, error) {
	drive := filepath.Join(prefix, "drive_c")
	if info, err := os.Stat(drive); err != nil || !info.IsDir() {
		return Known{}, fmt.Errorf("%s is not a compatibility prefix: it has no drive_c", prefix)
	}
	folders, profile, err := readUserRegistry(filepath.Join(prefix, "user.reg"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return Known{}, err
	}
	home := ""
	if profile != "" {
		home = PrefixPath(prefix, profile)
	} else if home, err = onlyUser(filepath.Join(drive, "users")); err != nil {
		return Known{}, err
	}
	where := func(names []string, usual string) string {
		for _, name := range names {
			if v := folders[strings.ToLower(name)]; v != "" {
				if rest, ok := cutFold(v, "%USERPROFILE%"); ok {
					return filepath.Join(home, filepath.FromSlash(strings.ReplaceAll(rest, `\`, "/")))
				}
				return PrefixPath(prefix, v)
			}
		}
		return filepath.Join(home, filepath.FromSlash(usual))
	}
	return Known{
		Home: home, FoldsCase: true,
		Documents:    where([]string{"Personal"}, "Documents"),
		AppData:      where([]string{"AppData"}, "AppData/Roaming"),
		LocalAppData: where([]string{"Local AppData"}, "AppData/Local"),
		LocalLow:     where([]string{"{A520A1A4-1780-4FF6-BD18-167343C5AF16}"}, "AppData/LocalLow"),
		SavedGames:   where([]string{"{4C5C32FF-BB9D-43B0-B5B4-2D72E54EAAA4}"}, "Saved Games"),
		Config:       where([]string{"Local AppData"}, "AppData/Local"),
		Data:         where([]string{"Local AppData"}, "AppData/Local"),
	}, nil
}

func cutFold(s, prefix string) (string, bool) {
	if len(s) >= len(prefix) && strings.EqualFold(s[:len(prefix)], prefix) {
		return s[len(prefix):], true
	}
	return s, false
}

// onlyUser finds the one player of a prefix whose registry does not name him.
func onlyUser(users string) (string, error) {
	list, err := os.ReadDir(users)
	if err != nil {
		return "", err
	}
	var found []string
	for _, e := range list {
		if e.IsDir() && !strings.EqualFold(e.Name(), "Public") {
			found = append(found, filepath.Join(users, e.Name()))
		}
	}
	if len(found) != 1 {
		return "", fmt.Errorf("%s: %d players, and the registry does not say which is meant", users, len(found))
	}
	return found[0], nil
}

// PrefixPath is where a Windows path lies that a program in a prefix sees: C:\x is drive_c/x, other drives are the links in dosdevices.
func PrefixPath(prefix, path string) string {
	slashed := strings.ReplaceAll(path, `\`, "/")
	if len(slashed) < 2 || slashed[1] != ':' {
		return filepath.FromSlash(slashed)
	}
	letter := strings.ToLower(slashed[:1])
	base := filepath.Join(prefix, "dosdevices", letter+":")
	if letter == "c" {
		base = filepath.Join(prefix, "drive_c")
	}
	return filepath.Join(base, filepath.FromSlash(slashed[2:]))
}

var registryValue = regexp.MustCompile(`^"((?:[^"\\]|\\.)*)"=(?:str\(2\):)?"((?:[^"\\]|\\.)*)"$`)

// readUserRegistry reads the shell folders and the profile out of a prefix's user.reg, a text file of [key] sections and "name"="value"
// lines in which backslashes are doubled.
func readUserRegistry(path string) (folders map[string]string, profile string, err error) {
	f, err := tree.Open(path)
	if err != nil {
		return nil, "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, "", err
	}
	if info.Size() > maxRegistry {
		return nil, "", fmt.Errorf("%s is larger than %d bytes", path, maxRegistry)
	}
	folders = map[string]string{}
	section := ""
	lines := bufio.NewScanner(transform.NewReader(f, unicode.BOMOverride(unicode.UTF8.NewDecoder())))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		if strings.HasPrefix(line, "[") {
			name, _, _ := strings.Cut(line[1:], "]")
			section = strings.ToLower(strings.ReplaceAll(name, `\\`, `\`))
			continue
		}
		m := registryValue.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		name, value := strings.ToLower(m[1]), strings.ReplaceAll(m[2], `\\`, `\`)
		switch {
		case strings.HasSuffix(section, `\explorer\shell folders`), strings.HasSuffix(section, `\explorer\user shell folders`):
			folders[name] = value
		case section == "volatile environment" && name == "userprofile":
			profile = value
		}
	}
	return folders, profile, lines.Err()
}

// Spelled is a path with each part spelled as it is on disk, where names are compared without case.
func Spelled(path string) string { return spelled(path) }

// spelled returns path with each part below a folder spelled as it is on disk, where names are compared without case. Parts that do not
// exist stay as they are.
func spelled(path string) string {
	if _, err := os.Lstat(path); err == nil {
		return path
	}
	dir, name := filepath.Split(path)
	dir = filepath.Clean(dir)
	if dir == path || name == "" {
		return path
	}
	dir = spelled(dir)
	list, err := os.ReadDir(dir)
	if err == nil {
		for _, e := range list {
			if strings.EqualFold(e.Name(), name) {
				return filepath.Join(dir, e.Name())
			}
		}
	}
	return filepath.Join(dir, name)
}
