package assess

import (
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/problem"
)

// Hazards is what there is to say of a download before any game is asked: whether it may do harm, is whole, and can be read.
func Hazards(d *facts.Download) []check.Finding {
	var found []check.Finding
	add := func(code check.Code, subject, why, help string) {
		found = append(found, check.New(code, subject, why).Helped(problem.Advise("%s", help)))
	}
	for _, h := range d.Hazards {
		add(check.Dangerous, h.Path, h.Why, "delete the download")
	}
	for _, e := range d.Damaged {
		add(check.Damaged, e.Path, e.Why, "fetch the download again")
	}
	for _, e := range d.Encrypted {
		add(check.Encrypted, e, "needs a password, so it cannot be looked into", "ask for it without a password")
	}
	for _, e := range d.Closed {
		add(check.NotLookedInto, e, "is an archive that lies in too many others to be opened", "ask for the save by itself")
	}
	if d.Parcel != nil {
		for _, why := range d.Parcel.Wrong {
			add(check.Damaged, "parcel", why, "fetch the parcel again")
		}
	}
	return found
}
