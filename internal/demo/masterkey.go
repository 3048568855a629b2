package demo

import (
	"os"
	"path/filepath"
	"time"

	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/drawerkeys"
	"tansu/internal/masters"
)

// The crew's drawer is under a master key that the engineer on call has brought, and has kept in a file.
const (
	crewKey     = "crew-office"
	crewKeyFile = crewKey + ".masterkey"
	crewDrawer  = "crew-rota-prod"
)

// makeMasterKey brings the crew's master key on one day; on another it is away for an hour.
func (f *filler) makeMasterKey(ago time.Duration) error {
	if ago != 46*day && ago != 21*day {
		return nil
	}
	oncall, err := f.as("platform-oncall")
	if err != nil {
		return err
	}
	if ago == 21*day {
		return f.awayForAnHour()
	}
	material := envelope.NewMasterMaterial()
	defer material.Wipe()
	if err := os.WriteFile(filepath.Join(f.dir, crewKeyFile), material.Reveal(), 0o600); err != nil {
		return err
	}
	_, err = f.s.Masters.Make(oncall, masters.NewKey{Name: crewKey, Origin: drawerkeys.Brought, Material: material,
		Description: "The crew office can close its drawer"})
	if err != nil {
		return err
	}
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	under := crewKey
	_, err = f.s.RotateKey(duty, crewDrawer, &under, time.Minute)
	return err
}

func (f *filler) awayForAnHour() error {
	oncall, err := f.as("platform-oncall")
	if err != nil {
		return err
	}
	oncall.Reason = "a laptop of the crew office is missing"
	list, err := f.s.Masters.List(oncall)
	if err != nil {
		return err
	}
	if _, err := f.s.Masters.Withdraw(oncall, list[0].Row.ID, crewKey); err != nil {
		return err
	}
	f.clock.Set(21*day - time.Hour)
	content, err := os.ReadFile(filepath.Join(f.dir, crewKeyFile))
	if err != nil {
		return err
	}
	material := secretvalue.New(content)
	defer material.Wipe()
	if oncall, err = f.as("platform-oncall"); err != nil {
		return err
	}
	oncall.Reason = "it was found in the wheelhouse"
	_, err = f.s.Masters.GiveBack(oncall, list[0].Row.ID, material, nil)
	return err
}
