package game

import "golang.org/x/sys/windows"

func windowsKnown(k *Known) error {
	for id, into := range map[*windows.KNOWNFOLDERID]*string{
		windows.FOLDERID_Documents: &k.Documents, windows.FOLDERID_SavedGames: &k.SavedGames, windows.FOLDERID_RoamingAppData: &k.AppData,
		windows.FOLDERID_LocalAppData: &k.LocalAppData, windows.FOLDERID_LocalAppDataLow: &k.LocalLow,
	} {
		path, err := windows.KnownFolderPath(id, windows.KF_FLAG_DONT_VERIFY)
		if err != nil {
			return err
		}
		*into = path
	}
	return nil
}
