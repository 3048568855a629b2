package demo

import (
	"time"

	"tansu/internal/core/envelope"
	"tansu/internal/opening"
)

// makeCustodians: two of three custodians open the chest, too, and one of them has not come for their share yet.
func (f *filler) makeCustodians() error {
	f.clock.Set(88*day + time.Hour)
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	names := []string{"security-duty", "harbour-master", "audit-desk"}
	method := opening.NewMethod{Name: "custodians", Kind: envelope.MethodShares, Needed: 2}
	for _, name := range names {
		method.Custodians = append(method.Custodians, "person:"+name)
	}
	if _, err := f.s.AddMethod(duty, method, f.unlock); err != nil {
		return err
	}
	for _, name := range names[:2] {
		who, err := f.as(name)
		if err != nil {
			return err
		}
		shares, err := f.s.MyShares(who)
		if err != nil {
			return err
		}
		words, _, err := f.s.TakeShare(who, shares[0].ID)
		if err != nil {
			return err
		}
		words.Wipe()
	}
	return nil
}

// rehearse: five weeks ago restoring was tried, for the first time and the last.
func (f *filler) rehearse() error {
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	if o, err := f.s.Backups(duty); err != nil || o.To == "" {
		return err
	}
	if _, err := f.s.Backup(duty, true); err != nil {
		return err
	}
	_, err = f.s.Rehearse(duty, 0)
	return err
}

// backUp: last night's backup.
func (f *filler) backUp() error {
	f.clock.Set(16 * time.Hour)
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	if o, err := f.s.Backups(duty); err != nil || o.To == "" {
		return err
	}
	_, err = f.s.Backup(duty, false)
	return err
}
