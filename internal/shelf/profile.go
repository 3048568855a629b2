package shelf

import (
	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/content"
	"tansu/internal/core/access"
)

// maySay decides whether somebody may say what an authority signs, which takes the right to change its rules: a profile would else give it
// to whoever may write any item beside it. The profile keeps to that authority, whatever gets its name later.
func (s *Shelf) maySay(a *chest.Attempt, d *chest.Drawer, f *certrow.Facts) error {
	if f == nil || f.Profile == nil {
		return nil
	}
	if _, err := s.heart.Allow(a.Caller, access.ChangeRules, d.Row.Name, f.Profile.Authority); err != nil {
		return err
	}
	a.RestOnAccess()
	_, it, err := a.St.Named(d, f.Profile.Authority)
	if err != nil {
		return err
	}
	if err := content.Signs(f.Profile, d.Row.Name, it); err != nil {
		return err
	}
	f.Signer = it.Row.ID
	return nil
}
