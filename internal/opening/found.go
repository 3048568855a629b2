package opening

import (
	"fmt"
	"os"
	"slices"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/authority"
	"tansu/internal/core/credential"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/datadir"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Founding says how a new chest is opened and reached.
type Founding struct {
	Method   string // an envelope method
	Material secretvalue.Value
	Costs    envelope.Stretch // for a passphrase
	Hosts    []string         // names and addresses the server is reached at
	Now      func() time.Time // nil means the machine's clock
}

// Founded is what the founder is told, once.
type Founded struct {
	Chest       string
	Enrolment   secretvalue.Value // the steward's enrolment code
	Fingerprint string            // of the authority's certificate
}

// Found makes a chest in an empty data directory. It is whole or not there at all.
func Found(records *store.Store, f Founding) (founded Founded, err error) {
	if f.Now == nil {
		f.Now = time.Now
	}
	now := f.Now()
	founded.Chest = chest.NewID("ch_")
	root := envelope.NewRoot(founded.Chest)
	defer root.Erase()
	unlock := envelope.NewKey()
	defer unlock.Erase()
	slot, err := envelope.NewSlot(founded.Chest, unlock, f.Method, f.Material, f.Costs)
	if err != nil {
		return founded, err
	}
	ca, err := authority.New(founded.Chest, now)
	if err != nil {
		return founded, err
	}
	if founded.Fingerprint, err = authority.Fingerprint(ca.Certificate); err != nil {
		return founded, err
	}
	if err := issueServer(records, ca, f.Hosts, now); err != nil {
		return founded, err
	}
	caKey, err := ca.Key()
	if err != nil {
		return founded, err
	}
	records.Found(root)
	defer records.Unbind()
	row := store.Chest{
		ID: founded.Chest, CreatedAt: chest.Micros(now), AuthorityCertificate: ca.Certificate,
		Seals: store.Seals{RootWrapped: envelope.WrapRoot(unlock, root), BaseSealed: []byte{}, AuthoritySealed: root.SealAuthority(caKey)},
	}
	steward := entity.Identity{ID: chest.NewID("id_"), Kind: reference.Person, Name: chest.Founder,
		Description: "Founded the chest; appoints others",
		State:       chest.Active, CreatedAt: chest.Micros(now), CreatedBy: "init"}
	code, hash := credential.New(credential.Enrolment)
	founded.Enrolment = code
	enrolment := entity.Credential{ID: chest.NewID("cr_"), Identity: steward.ID, Kind: string(credential.Enrolment), Hash: hash[:],
		NotAfter: chest.Micros(now.Add(chest.EnrolmentLife)), CreatedAt: chest.Micros(now), CreatedBy: "init"}
	grant := entity.Grant{ID: chest.NewID("gr_"), Subject: steward.ID, Effect: string(access.Allow), Role: access.Steward, Scope: "**",
		Reason: "founding", CreatedAt: chest.Micros(now), CreatedBy: "init"}
	made := &store.Change{Founds: &row}
	made.Insert(rowOf(chest.NewID("sl_"), "founding", slot, now, "init"))
	made.Insert(steward)
	made.Insert(enrolment)
	made.Insert(grant)
	work := &store.Work{
		Entry:  trail.Entry{At: now, Subject: "init", Action: "found", Outcome: trail.Allowed, Detail: "chest " + founded.Chest + " founded"},
		Change: made,
	}
	if err := records.Submit(work); err != nil {
		return founded, fmt.Errorf("store the chest: %w", err)
	}
	return founded, nil
}

func issueServer(records *store.Store, ca *authority.Authority, hosts []string, now time.Time) error {
	certificate, key, err := ca.Issue(hosts, now)
	if err != nil {
		return err
	}
	return records.WriteTLS(datadir.TLS{Certificate: certificate, Key: key, Authority: ca.Certificate})
}

// RenewServer replaces the server's certificate when it ends soon, when it lacks one of the hosts, or when it is not there. It needs the
// root key, because the authority's key is sealed; it reports whether it did anything.
func RenewServer(records *store.Store, root *envelope.Root, hosts []string, now time.Time) (bool, error) {
	row, err := records.Chest()
	if err != nil {
		return false, err
	}
	wanted, due := slices.Clone(hosts), true
	if len(records.Missing()) == 0 {
		files, err := records.ReadTLS()
		if err != nil {
			return false, err
		}
		known, err := authority.Hosts(files.Certificate)
		if err != nil {
			return false, err
		}
		wanted = known
		for _, host := range hosts {
			if !slices.Contains(wanted, host) {
				wanted = append(wanted, host)
			}
		}
		due = len(wanted) != len(known) || authority.RenewalDue(files.Certificate, now)
	}
	if !due {
		return false, nil
	}
	key, err := root.OpenAuthority(row.AuthoritySealed)
	if err != nil {
		return false, err
	}
	defer clear(key)
	ca, err := authority.Restore(row.AuthorityCertificate, key)
	if err != nil {
		return false, err
	}
	return true, issueServer(records, ca, wanted, now)
}

// LocalHosts are the names and addresses that a server's certificate is always for.
func LocalHosts() []string {
	hosts := []string{"localhost", "127.0.0.1", "::1"}
	if name, err := os.Hostname(); err == nil && name != "" && name != "localhost" {
		hosts = append(hosts, name)
	}
	return hosts
}

// RenewStopped makes the files of the chest's TLS identity anew, in a data directory that no service runs on, by whoever holds what opens
// the chest.
func RenewStopped(records *store.Store, material secretvalue.Value, hosts []string, now time.Time) error {
	found, _, err := openOffline(records, material, now)
	if err != nil {
		return err
	}
	defer found.root.Erase()
	defer records.Unbind()
	records.RemoveTLS()
	_, err = RenewServer(records, found.root, hosts, now)
	return err
}
