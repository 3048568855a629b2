package access

import (
	"iter"
	"math/bits"
	"strings"
)

// Action is one thing that can be done in a chest. Actions are few and separate: none implies another.
type Action uint32

// The actions.
const (
	List         Action = 1 << iota // see that things exist, by name
	SeeMetadata                     // see everything about them but their value
	ReadValue                       // be given a value
	Encrypt                         // have a key encrypt or wrap
	Decrypt                         // have a key decrypt, unwrap or agree
	Sign                            // have a key sign, or make a MAC
	Verify                          // have a key check a MAC; the public half of a key needs no right
	Issue                           // be given a certificate, or a token, of a profile
	WriteVersion                    // add items and versions
	ChangeItem                      // change what is said about an item
	Retire                          // hide an item for a grace period
	Shred                           // destroy for good
	ChangeRules                     // create drawers and change what they demand
	GrantAccess                     // give and end grants
	Register                        // register persons and apps
	ReadTrail                       // read the audit trail
	Operate                         // lock, unlock, back up
)

// AllActions is the set of all actions.
const AllActions = Operate<<1 - 1

// UseKey is every use of a key. Roles and policies from before the uses were told apart have it as one action, use_key.
const UseKey = Encrypt | Decrypt | Sign | Verify

// Yields are the actions by which somebody gets something that is worth a secret.
const Yields = ReadValue | UseKey | Issue

var actionNames = map[Action]string{
	List: "list", SeeMetadata: "see_metadata", ReadValue: "read_value", Encrypt: "encrypt", Decrypt: "decrypt", Sign: "sign",
	Verify: "verify", Issue: "issue", WriteVersion: "write_version",
	ChangeItem: "change_item", Retire: "retire", Shred: "shred", ChangeRules: "change_rules", GrantAccess: "grant",
	Register: "register", ReadTrail: "read_trail", Operate: "operate",
}

// String returns the action's name in the API, or several joined by commas.
func (a Action) String() string {
	if name, single := actionNames[a]; single {
		return name
	}
	return strings.Join(a.Names(), ",")
}

// Phrase says the action in a sentence, before its target: "read the value of".
func (a Action) Phrase() string {
	switch a {
	case SeeMetadata:
		return "see what is known of"
	case ReadValue:
		return "read the value of"
	case Encrypt, Decrypt, Sign, Verify:
		return a.String() + " with the key"
	case Issue:
		return "have anything signed by"
	case WriteVersion:
		return "add a version to"
	case ChangeItem:
		return "change"
	case ChangeRules:
		return "make or change"
	case GrantAccess:
		return "give access to"
	case Register:
		return "register or change identities in"
	case ReadTrail:
		return "read the trail of"
	case Operate:
		return "operate"
	default:
		return a.String()
	}
}

// FormerUseKey is what all uses of a key together were called in roles and policies made before.
const FormerUseKey = "use_key"

// ParseActions reads the name of an action of a role, which may be one that stands for several now.
func ParseActions(name string) (Action, bool) {
	if name == FormerUseKey {
		return UseKey, true
	}
	return ParseAction(name)
}

// ParseAction returns the action of that name in the API.
func ParseAction(name string) (Action, bool) {
	for action, known := range actionNames {
		if known == name {
			return action, true
		}
	}
	return 0, false
}

// Names returns the names of the actions in a set, in the order of their declaration.
func (a Action) Names() []string {
	var names []string
	for action := range a.Each() {
		names = append(names, actionNames[action])
	}
	return names
}

// Each goes through the single actions of a set, in the order of their declaration.
func (a Action) Each() iter.Seq[Action] {
	return func(yield func(Action) bool) {
		for bit := List; bit <= Operate; bit <<= 1 {
			if a&bit != 0 && !yield(bit) {
				return
			}
		}
	}
}

// Role is a named set of actions.
type Role struct {
	Name    string
	Actions Action
	Summary string
}

// Steward is the founding role. It can do everything but read values; it exists to appoint others.
const Steward = "steward"

// Roles are the built-in roles, weakest first.
var Roles = []Role{
	{"viewer", List | SeeMetadata, "lists and metadata, no values"},
	{"consumer", ReadValue | UseKey, "reads values, uses keys"},
	{"subscriber", Issue, "gets certificates and tokens of a profile"},
	{"depositor", WriteVersion, "adds items and versions, cannot read any back"},
	{"curator", List | SeeMetadata | WriteVersion | ChangeItem | Retire | Shred | ChangeRules,
		"the whole life of items and rules, not their values"},
	{"gatekeeper", List | SeeMetadata | GrantAccess | Register, "identities and grants in its scope, never its own access"},
	{"auditor", List | SeeMetadata | ReadTrail, "the trail and reports"},
	{"operator", Operate, "lock, unlock, back up, health"},
	{Steward, List | SeeMetadata | WriteVersion | ChangeItem | Retire | Shred | ChangeRules | GrantAccess | Register | ReadTrail | Operate,
		"founds the chest and appoints others; not for daily use"},
}

// FormerCurator is what the role curator was called in policies and chests made before.
const FormerCurator = "keeper"

// RoleName is what the role of a name is called now.
func RoleName(name string) string {
	if name == FormerCurator {
		return "curator"
	}
	return name
}

// FindRole returns the role of that name.
func FindRole(name string) (Role, bool) {
	for _, role := range Roles {
		if role.Name == name {
			return role, true
		}
	}
	return Role{}, false
}

// SmallestRole returns the role with the fewest actions that includes all of the actions; the earlier one when two are
// equal, the zero Role when none does.
func SmallestRole(roles []Role, actions Action) Role {
	var best Role
	for _, role := range roles {
		if role.Actions&actions == actions && (best.Name == "" || role.Actions.Count() < best.Actions.Count()) {
			best = role
		}
	}
	return best
}

// Count returns how many actions are in a set.
func (a Action) Count() int { return bits.OnesCount32(uint32(a)) }
