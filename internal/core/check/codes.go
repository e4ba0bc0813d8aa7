package check

import "ostrov/internal/core/problem"

// Code names a kind of finding.
type Code string

// Codes of findings about a file.
const (
	Dangerous    Code = "dangerous"
	NotASave     Code = "not-a-save"
	Damaged      Code = "damaged"
	SeveralSaves Code = "several-saves"
	OneMember    Code = "one-member"
	BrokenLink   Code = "broken-link"
	Incomplete   Code = "incomplete"
	Litter       Code = "litter"
	BeingWritten Code = "being-written"
	RunsCode     Code = "runs-code"
	Encrypted    Code = "encrypted"
	Private      Code = "private"
	OtherGame    Code = "other-game"
	// NotUnderstood is a file that is wrapped in a way that the description does not tell.
	NotUnderstood Code = "not-understood"
	// NotRead is a file that is larger than what is read.
	NotRead Code = "not-read"
	// NotLookedInto is an archive that lies deeper in others than is looked.
	NotLookedInto Code = "not-looked-into"
)

// Codes of findings about versions.
const (
	SaveNewer Code = "save-newer"
	SaveOlder Code = "save-older"
	NoRule    Code = "no-rule"
	// VersionDiffers is a save of another version where versions do not sort.
	VersionDiffers Code = "version-differs"
	// FormatDiffers is a save of the same version whose format, build or another value the game takes differently.
	FormatDiffers Code = "format-differs"
	Convertible   Code = "convertible"
)

// Codes of findings about mods.
const (
	ModMissing         Code = "mod-missing"
	ModOff             Code = "mod-off"
	ModDiffers         Code = "mod-differs"
	ModAltered         Code = "mod-altered"
	ModExtra           Code = "mod-extra"
	OrderDiffers       Code = "order-differs"
	ModsUnknown        Code = "mods-unknown"
	NeedsCleanGame     Code = "needs-clean-game"
	RequirementMissing Code = "requirement-missing"
	ModHidden          Code = "mod-hidden"
	ModsCollide        Code = "mods-collide"
	ModUnsupported     Code = "mod-unsupported"
	NotLoaded          Code = "not-loaded"
	// ModElsewhere is a mod in another folder than the one that the save wants it to be loaded from.
	ModElsewhere Code = "mod-elsewhere"
	// PartsDiffer is a mod in several downloads whose parts are of different versions.
	PartsDiffer Code = "parts-differ"
	// ModEdited is a file of a mod that is not as it came, ModBroken one that is gone or cut short, and ModNobodys one that no mod of the ledger has.
	ModEdited  Code = "mod-edited"
	ModBroken  Code = "mod-broken"
	ModNobodys Code = "mod-nobodys"
	// ModTwice is a mod of which two folders have one, where the game does not start with that.
	ModTwice Code = "mod-twice"
)

// Codes of findings about an install.
const (
	GameRunning  Code = "game-running"
	NeverStarted Code = "never-started"
	SameDrive    Code = "same-drive"
	ArchiveAway  Code = "archive-away"
	// SettingNeeded is a [[require]] of the description that does not hold.
	SettingNeeded Code = "setting-needed"
	BaseAltered   Code = "base-altered"
	WrongStarter  Code = "wrong-starter"
	// UpdatedSince is an install of another version than at its newest snapshot.
	UpdatedSince Code = "updated-since"
	// SettingsOrphaned is a settings file of a mod that is not installed.
	SettingsOrphaned Code = "settings-orphaned"
	// SharedFolder is a folder of saves that another install uses too.
	SharedFolder Code = "shared-folder"
	// FolderChanged is a folder of saves that a condition chose before, and now chooses another.
	FolderChanged Code = "folder-changed"
	// NotListed is a save of a kind whose condition does not hold in the install.
	NotListed Code = "not-listed"
	// ListChanged is a mod list that is another than the one that saves were last written under.
	ListChanged Code = "list-changed"
	// LinkedSave is a link in the place of a save.
	LinkedSave Code = "linked-save"
)

// Codes of findings about slots.
const (
	AlreadyHere  Code = "already-here"
	OwnerDiffers Code = "owner-differs"
	NameDiffers  Code = "name-differs"
	SlotTaken    Code = "slot-taken"
	NoFreeSlot   Code = "no-free-slot"
	SaveGone     Code = "save-gone"
	SaveShrank   Code = "save-shrank"
	SaveWentBack Code = "save-went-back"
)

// Info is what the handbook says of a code.
type Info struct {
	Code     Code
	Severity Severity // where no rule and no evidence says otherwise
	Meaning  string
	Effect   string // what tends to happen in a game
	Remedy   string
	Do       problem.Hints // commands that do it
	Example  string

	place int
}

var table = []Info{
	{Code: Dangerous, Severity: Stop, Meaning: "The download contains something that can harm the computer or files outside the save: a path that leads out of it, a link, a program, a bomb that unpacks to more than the limits, a pickle that calls what no save needs, or an archive that two programs would unpack differently: with another name or size before a file's content than in the directory, with files that only one of them sees, with a second archive behind its end.",
		Effect: "None, while it is not unpacked. Another program may write what Ostrov showed to be harmless elsewhere, or unpack a program beside it.", Remedy: "Delete it, whoever it came from, and ask for the save by itself. Ostrov never places it.", Example: "../../startup/run.bat leads out of the download"},
	{Code: NotASave, Severity: Stop, Meaning: "Nothing in the download is a save of a known game.",
		Effect: "The game does not list it.", Remedy: "Look whether it is a mod, or a save of a game that Ostrov does not know yet.", Do: problem.Do("games add", "GAME"), Example: "no file in it looks like a save of tidewrack"},
	{Code: Damaged, Severity: Stop, Meaning: "A file of the save is cut short, does not match its checksum, or is not what it should be. Archives are read behind the last file, to the checksum at their end. A parcel is damaged, too, that has files fetched from elsewhere, or that tells of another save.",
		Effect: "The game crashes, skips the save or starts a new one; what was altered on the way may load and be wrong.", Remedy: "Fetch the download again; for a save of your own, `restore` an earlier state.", Example: "voyage.json.gz: the JSON ends too early"},
	{Code: NotUnderstood, Severity: Unknown, Meaning: "A file of the save is packed or made in a way that the description of the game does not tell. It may be right all the same.",
		Effect: "None that is known.", Remedy: "Write into the description how such a file is made.", Do: problem.Do("games test", "FILE").With("on", "SAVE"), Example: "run.sav: begins with \"ZST1\" instead of \"ZLB0\" or \"RAW0\""},
	{Code: NotRead, Severity: Unknown, Meaning: "A file of the save is larger, or nested deeper, than Ostrov reads: more than 512 MiB unpacked, more than 64 MiB of a form that must be in memory at once, or 1,000 things in one another. It may be right all the same.",
		Effect: "None that is known.", Remedy: "Ask the game itself; for a download, ask for one that is smaller.", Example: "voyage.json.gz: too large to be read: more than 512 MiB unpacked"},
	{Code: NotLookedInto, Severity: Unknown, Meaning: "The download has an archive that lies in so many others that it was not opened. What is in it is not known.",
		Effect: "None that is known.", Remedy: "Do not unpack it; ask for the save by itself.", Example: "a.zip/b.zip/c.zip/d.zip: is an archive in four others"},
	{Code: SeveralSaves, Severity: Unknown, Meaning: "The download holds several saves, or variants of one.",
		Effect: "None.", Remedy: "Choose one.", Do: problem.Do("vet", "FILE").With("pick", "NAME"), Example: "3 saves in it"},
	{Code: OneMember, Severity: Note, Meaning: "The download is no save but one member of one, taken out by Ostrov: a character, a town.",
		Effect: "None by itself.", Remedy: "Put it into a save of your own.", Do: problem.Do("members put", "SAVE", "FILE"), Example: "it is one driver of a roster of Night Tram, 00001001 Bo, made with 3.1"},
	{Code: BrokenLink, Severity: Risk, Meaning: "One place of the save names something that the save does not have.",
		Effect: "What depends on it is lost when the game loads the save, or the game crashes; the description's rules may say which.", Remedy: "Ask whoever made it for a whole one, or borrow what is missing from another save.", Do: problem.Do("borrow", "SECTION").With("from", "SAVE").With("into", "SAVE"), Example: "the tree that a warden tends: 17 is named and is not there"},
	{Code: Incomplete, Severity: Stop, Meaning: "A file that belongs to the save is not in the download.",
		Effect: "The game does not list the save, or loads half of it.", Remedy: "Ask for the missing file.", Example: "chart.bin is missing"},
	{Code: BeingWritten, Severity: Unknown, Meaning: "The save changed while it was read.",
		Effect: "A copy made now would be neither the old nor the new state.", Remedy: "Wait until the game has finished, then try again.", Example: "bay_a.orchard is being written"},
	{Code: RunsCode, Severity: Risk, Meaning: "A file of the save is of a format that runs code when the game loads it: a Python pickle, Lua that calls or defines something, objects of Java, .NET, Ruby or PHP, YAML or JSON that names the classes to be made of it, XML that declares entities, a resource or a pack of a game engine with a script, a database with a trigger or a view that calls functions. It is told by what is in the file, not by its name, also in a text in UTF-16, in a packed file, and in a value in Base64, packed or not. It is a note only where your own saves of the game are made the same way.",
		Effect: "Whoever made the save can make the game do anything that you can do.", Remedy: "Load it only if you trust who made it.", Example: "world.dat is a Python pickle that builds objects when it is loaded: game.World"},
	{Code: Encrypted, Severity: Unknown, Meaning: "A file of the download needs a password, so nothing can be said of it.",
		Effect: "None, while it is not unpacked.", Remedy: "Ask for it without a password.", Example: "slot_02/voyage.json.gz needs a password, so it cannot be looked into"},
	{Code: Private, Severity: Risk, Meaning: "The save tells of the player: an account, a name, a folder of the computer, an address.",
		Effect: "Everyone who gets the save can read it.", Remedy: "Empty what the description marks as personal; look at the rest yourself.", Do: problem.Do("parcel", "SAVE").With("blank"), Example: "voyage.json.gz: the captain's number 70431"},
	{Code: OtherGame, Severity: Stop, Meaning: "It is a save of another known game.",
		Effect: "The game does not list it.", Remedy: "Vet it for the game it belongs to.", Example: "a save of Brass Orchard, not of Tidewrack"},
	{Code: Litter, Severity: Note, Meaning: "Files in the download that do not belong to the save. They are left out.",
		Effect: "None.", Remedy: "None needed.", Example: "readme.txt, Thumbs.db"},
	{Code: SaveNewer, Severity: Unknown, Meaning: "The save was made with a newer version of the game than the install has.",
		Effect: "Depends on the game: many refuse, some start anew, some lose what is new.", Remedy: "Update the game, or look for a version of the save made with yours.", Example: "made with 1.6.4, you have 1.6.2"},
	{Code: SaveOlder, Severity: Unknown, Meaning: "The save was made with an older version of the game than the install has.",
		Effect: "Depends on the game: most convert it on loading, and then the old version cannot read it any more.", Remedy: "Keep a snapshot before you load it.", Example: "made with 1.4.0, you have 1.6.2"},
	{Code: NoRule, Severity: Unknown, Meaning: "Nothing known says whether a save of this version loads in the install's version.",
		Effect: "Unknown.", Remedy: "Try it on a copy; then tell Ostrov, or add a rule to the description.", Do: problem.Do("needs", "SAVE").With("state", "version V"), Example: "nothing says which version made it"},
	{Code: VersionDiffers, Severity: Unknown, Meaning: "The save was made with another version of the game, and the two do not sort as newer and older.",
		Effect: "Depends on the game.", Remedy: "Try it on a copy.", Example: "made with the spring build, you have the harvest build"},
	{Code: FormatDiffers, Severity: Unknown, Meaning: "The version fits, and the save's format, its build or another value in it is one that the game takes differently.",
		Effect: "What the description says of it.", Remedy: "As the description says; else try it on a copy.", Example: "made with 3.0.6, format 41, you have 3.0.6"},
	{Code: Convertible, Severity: Note, Meaning: "The description knows how the save is converted to another version.",
		Effect: "None.", Remedy: "Convert a copy of it.", Example: "a save of 1.9 can be converted to 2.3"},
	{Code: NeedsCleanGame, Severity: Stop, Meaning: "The save needs a game without mods, and the install has some.",
		Effect: "Depends on the game.", Remedy: "Put the mods aside first.", Do: problem.Do("mods aside", "GAME"), Example: "needs a clean game, 12 mods are on"},
	{Code: ModMissing, Severity: Stop, Meaning: "A mod that the save needs is not installed.",
		Effect: "Depends on the game: it refuses, crashes, or silently drops everything of the mod at the next save.", Remedy: "Install the mod in the version named.", Do: problem.Do("mods add", "DOWNLOAD"), Example: "Deep Tides 2.1: the save lists it"},
	{Code: ModOff, Severity: Stop, Meaning: "A mod that the save needs is installed but switched off.",
		Effect: "As for a missing mod.", Remedy: "Switch it on.", Do: problem.Do("mods on", "GAME+MOD"), Example: "Rope & Tar 0.9.0 is switched off"},
	{Code: ModDiffers, Severity: Risk, Meaning: "A mod that the save needs is installed in another version.",
		Effect: "Depends on the mod.", Remedy: "Install the version named, or keep a snapshot first.", Example: "Rope & Tar: saved with 0.9.2, you have 0.9.0"},
	{Code: ModAltered, Severity: Risk, Meaning: "A mod has the version that the save needs, but not the same content: it was edited by hand, damaged, or updated without a new version number.",
		Effect: "Depends on what was altered.", Remedy: "Compare the two, or install the mod anew.", Example: "Rope & Tar 0.9.2 is not the same as when this was saved"},
	{Code: OrderDiffers, Severity: Risk, Meaning: "The mods are loaded in another order than when the save was made.",
		Effect: "Where two mods change the same thing, the other one wins now.", Remedy: "Put the order back.", Example: "deep-tides was loaded before rope-and-tar"},
	{Code: ModsUnknown, Severity: Unknown, Meaning: "Nothing known says which mods the save needs.",
		Effect: "Unknown.", Remedy: "Say it, if you know it.", Do: problem.Do("needs", "SAVE").With("state", "mod NAME").Or(problem.Do("needs", "SAVE").With("state", "clean")), Example: "nothing says which mods it was made with"},
	{Code: ModElsewhere, Severity: Stop, Meaning: "The save wants the mod to be loaded from another folder than the one it lies in.",
		Effect: "The game does not load the mod.", Remedy: "Install the mod into the folder that is named.", Example: "moss: the save loads it from mods, it lies in share"},
	{Code: ModTwice, Severity: Stop, Meaning: "The same mod lies in two folders, and the game does not start with that.",
		Effect: "The game stops before it loads the save.", Remedy: "Remove one of the two.", Example: "moss lies in mods/moss and in share/moss"},
	{Code: PartsDiffer, Severity: Stop, Meaning: "A mod comes in several downloads, and they are of different versions.",
		Effect: "The game crashes, or things of the mod are missing or look wrong, often only later.", Remedy: "Fetch all parts of one version.", Example: "main is 2.1, models is 2.0"},
	{Code: ModBroken, Severity: Risk, Meaning: "A file of a mod is gone, or is shorter than it came.",
		Effect: "What the mod does with it is missing; the game may not say so.", Remedy: "Have it brought back from the archive.", Do: problem.Do("mods verify", "GAME").With("fix"), Example: "art/reef.art is gone"},
	{Code: ModEdited, Severity: Note, Meaning: "A file of a mod is not as it came.",
		Effect: "None, if you changed it yourself.", Remedy: "Nothing, where you changed it; else have it brought back.", Do: problem.Do("mods verify", "GAME").With("fix"), Example: "options.ini is not as it came"},
	{Code: ModNobodys, Severity: Note, Meaning: "A file in a folder of mods belongs to no mod that Ostrov knows.",
		Effect: "It stays when mods are dropped.", Remedy: "Have Ostrov take the mod over, or delete the file.", Do: problem.Do("mods adopt", "GAME"), Example: "mods/old/readme.txt"},
	{Code: ModHidden, Severity: Note, Meaning: "The same mod lies in two folders; the game uses the one named.",
		Effect: "The other one is never loaded.", Remedy: "Remove the one you do not want.", Example: "rope-and-tar in mods/old is hidden by mods/rope"},
	{Code: RequirementMissing, Severity: Risk, Meaning: "A mod of the install needs another one that is missing, switched off or too old.",
		Effect: "Depends on the game: the mod is not loaded, or loads in part.", Remedy: "Install what it needs.", Example: "Deep Tides needs lantern-core >= 1.2"},
	{Code: ModsCollide, Severity: Risk, Meaning: "Two mods are on that cannot be on together.",
		Effect: "Depends on the mods: one of them does not work, or the game crashes.", Remedy: "Switch one of them off.", Example: "Fog Horns cannot be on with Silent Night"},
	{Code: ModUnsupported, Severity: Risk, Meaning: "A mod is made for another version of the game.",
		Effect: "Depends on the mod: it is not loaded, or breaks.", Remedy: "Install a version of the mod made for this game version.", Example: "Deep Tides is made for >= 1.7, you have 1.6.2"},
	{Code: NotLoaded, Severity: Risk, Meaning: "A mod is on, and the game's log says that it was not loaded in the last session.",
		Effect: "What the mod put into a save may be gone from what was saved since.", Remedy: "Read the log; install the mod anew.", Example: "Rope & Tar: the log says that it was not loaded"},
	{Code: ModExtra, Severity: Note, Meaning: "The install has a mod switched on that the save was made without.",
		Effect: "The mod's content appears in the save from now on.", Remedy: "Switch the mod off if you want the save to stay as it is.", Example: "Painted Bark is on; the save was made without it"},
	{Code: GameRunning, Severity: Unknown, Meaning: "The game runs. Its folders are left alone meanwhile.",
		Effect: "The game would overwrite what is placed, or read half of it.", Remedy: "Close the game first.", Example: "Tidewrack.exe runs (process 4711)"},
	{Code: NeverStarted, Severity: Unknown, Meaning: "A folder of the game does not exist: the game has not run yet.",
		Effect: "There is nowhere to put a save.", Remedy: "Start the game once.", Example: "the saves folder is not there yet"},
	{Code: SameDrive, Severity: Note, Meaning: "The archive lies on the same drive as the game.",
		Effect: "When that drive fails, both are gone.", Remedy: "Add an archive on another drive.", Do: problem.Do("archive add", "DIR"), Example: "the archive is on the game's own drive"},
	{Code: SettingNeeded, Severity: Risk, Meaning: "Something that the game needs for its saves to load as they are is not so.",
		Effect: "Depends on the game.", Remedy: "As the finding says.", Example: "the lantern loader is switched off: the game starts without mods"},
	{Code: BaseAltered, Severity: Risk, Meaning: "A file of the game itself is not what it was when the clean game was recorded with `games base`.",
		Effect: "Depends on the file: a mod that replaces it, damage, or an update.", Remedy: "Let the store repair the game, or record it anew after an update.", Example: "tides.dat is altered"},
	{Code: WrongStarter, Severity: Risk, Meaning: "The program that would be started is not the one for the newest save.",
		Effect: "The game starts without what the save needs.", Remedy: "Start the program named.", Example: "Tidewrack.exe starts without mods; slot 1 needs lantern.exe"},
	{Code: UpdatedSince, Severity: Risk, Meaning: "The game has another version than when its newest snapshot was taken.",
		Effect: "What the new version saves the former one may not read. Saves that it has not written yet are converted when they are loaded.", Remedy: "Keep a snapshot before you load them. The former version can be brought back beside the new one, if it was kept.", Do: problem.Do("restore", "SNAPSHOT").With("only", "game").With("to", "DIR"), Example: "1.6.2 in gannet-rock.3, 1.6.4 now; not saved with 1.6.4 yet: 1, 2"},
	{Code: SettingsOrphaned, Severity: Risk, Meaning: "A settings file belongs to a mod that is not installed.",
		Effect: "Depends on the game: errors at the start, or none.", Remedy: "Put them aside.", Do: problem.Do("look").With("put-aside"), Example: "Fog Horns: mods/fog-horns.ini is a setting of it, and it is not installed"},
	{Code: SharedFolder, Severity: Note, Meaning: "Two installs are neighbours: they keep their saves in the same folder, which may be reached through a link.",
		Effect: "Each lists the saves of the other, and may convert them.", Remedy: "Start each with `play`: it swaps the saves. Where both play the same line, say so: then nothing is swapped.", Do: problem.Do("playthroughs assign", "PLAYTHROUGH", "GAME@INSTALL"), Example: "tidewrack@1-6-2 keeps its saves there too"},
	{Code: FolderChanged, Severity: Risk, Meaning: "The game keeps its saves in another folder than at an earlier look, since a file, a setting or the version that decides it is another now. The saves in the former folder are not gone.",
		Effect: "The game lists the saves of the folder that counts now, and not those of the former one.", Remedy: "If that is not meant, put back what decides it. Otherwise go on; nothing is moved between the two.", Example: "saves are in …/modded/saves since 1 March, because lantern.exe is there; 5 saves lie in …/saves"},
	{Code: NotListed, Severity: Stop, Meaning: "The game, as it is now, does not use saves of this kind: what decides that, such as a loader's file, is not so.",
		Effect: "The game does not list it.", Remedy: "Change the game, or take a save of a kind that it uses.", Example: "Tidewrack does not list saves of the kind voyage here: lantern.dll is not there"},
	{Code: ListChanged, Severity: Note, Meaning: "The mod list is another now than when the saves that are kept were last written.",
		Effect: "The snapshot has the list as it is now; brought back, the saves meet other mods than they were written under.", Remedy: "To file the former list with them:", Do: problem.Do("keep").With("mods", "as-written"), Example: "since these saves were written: Rope & Tar updated; kept with the list as it is now"},
	{Code: LinkedSave, Severity: Risk, Meaning: "A link stands where a save would be.",
		Effect: "What it leads to is neither checked nor kept.", Remedy: "Put the save itself there.", Example: "it is a link to /mnt/other/slot_03, and links in the place of a save are not followed"},
	{Code: ArchiveAway, Severity: Note, Meaning: "An archive is not there, as its drive is absent.",
		Effect: "What only it has cannot be listed, compared with or brought back. What is kept meanwhile goes into another archive, at the worst one in Ostrov's home.", Remedy: "Connect the drive: the next command copies into it what it lacks. To copy at once:", Do: problem.Do("archive copy", "DIR"), Example: "/mnt/backup/ostrov is not there"},
	{Code: AlreadyHere, Severity: Note, Meaning: "The same save, byte for byte, is in the install already.",
		Effect: "None.", Remedy: "None needed.", Example: "the same as slot 3"},
	{Code: OwnerDiffers, Severity: Note, Meaning: "The save belongs to another account.",
		Effect: "The game does not list it, or asks whose it is.", Remedy: "`place` puts it into your own account's folder and rewrites the owner where the description says how.", Example: "belongs to captain 70112"},
	{Code: NameDiffers, Severity: Note, Meaning: "The save came under a name that the game does not look for.",
		Effect: "The game does not list it.", Remedy: "`place` spells it as the game expects.", Example: "harbour.orchard becomes bay_c.orchard"},
	{Code: SlotTaken, Severity: Note, Meaning: "The save's own slot holds another save.",
		Effect: "That one would be overwritten.", Remedy: "`place` uses the first free slot.", Example: "slot 2 holds \"Gannet Rock\"; slot 4 is free"},
	{Code: NoFreeSlot, Severity: Unknown, Meaning: "Every slot is taken.",
		Effect: "One would be overwritten.", Remedy: "Name the slot to replace; what is there is kept first.", Do: problem.Do("place", "FILE").With("slot", "N"), Example: "all 5 bays are taken"},
	{Code: SaveGone, Severity: Risk, Meaning: "A save that was there at the last look is gone.",
		Effect: "The playthrough cannot go on from it.", Remedy: "`restore` it from the last snapshot that has it; or `keep` what is there: then it is not named any more.", Example: "slot 2, \"Gannet Rock\", was there on 1 March"},
	{Code: SaveShrank, Severity: Risk, Meaning: "A save has lost most of its size since the last look.",
		Effect: "It may have been emptied by a crash or a full disk.", Remedy: "`restore` it from the last snapshot; or `keep` what is there: then it is not named any more.", Example: "from 2.1 MB to 0 bytes"},
	{Code: SaveWentBack, Severity: Risk, Meaning: "A save is again as a snapshot has it, and Ostrov did not bring it back: a cloud may have, or the game.",
		Effect: "What was played since is not in it.", Remedy: "`restore` it from the snapshot that has the later state; or `keep` what is there: then it is not named any more.", Example: "it is as in tidewrack.4, of 2 March 2026 21:14; at the last look it was of 5 March 2026 22:10"},
}

var codes = func() map[Code]Info {
	m := make(map[Code]Info, len(table))
	for i, info := range table {
		info.place = i
		m[info.Code] = info
	}
	return m
}()

// Codes returns all codes with what the handbook says of them, in the order in which findings are shown.
func Codes() []Info { return append([]Info(nil), table...) }

// Known reports whether code is a finding this Ostrov can make.
func Known(code Code) bool { _, ok := codes[code]; return ok }
