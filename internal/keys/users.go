package keys

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/store"
	"tansu/internal/usage"
)

// User is who used a key for something, and which version.
type User struct {
	Subject string
	Action  string
	Version int
	Times   int64
	First   time.Time
	Last    time.Time
}

// KeyUsers lists who used a key for what, those of the oldest versions first: who still needs one that is to end. It takes the right to
// read the trail there.
func (k *Keys) KeyUsers(c chest.Caller, ref reference.Reference) (list []User, err error) {
	a, err := k.heart.Allow(c, access.ReadTrail, ref.Drawer, ref.Item)
	if err != nil {
		return nil, err
	}
	a.Entry.Detail = "who uses the key"
	_, it, err := a.St.ReadItem(ref)
	if err != nil {
		return nil, a.Fail(a.St.Hint(c, ref, err, a.Entry.At))
	}
	uses, err := usage.UpToDate(k.records, store.UseFilter{Kind: usage.Key, Keys: []string{it.Row.ID}})
	if err != nil {
		return nil, a.Fail(err)
	}
	for _, use := range uses {
		parts := strings.SplitN(use.Other, " ", 3)
		if len(parts) != 3 {
			return nil, a.Fail(fmt.Errorf("a use that nobody wrote: %q", use.Other))
		}
		version, _ := strconv.Atoi(parts[1]) // 0 for one that was not a number
		list = append(list, User{Subject: parts[2], Action: parts[0], Version: version, Times: use.Count,
			First: time.UnixMicro(use.FirstAt).UTC(), Last: time.UnixMicro(use.At).UTC()})
	}
	slices.SortFunc(list, func(x, y User) int {
		return cmp.Or(cmp.Compare(x.Version, y.Version), strings.Compare(x.Subject, y.Subject), strings.Compare(x.Action, y.Action))
	})
	return chest.Reply(a, list)
}
