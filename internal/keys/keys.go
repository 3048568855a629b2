// Package keys is the room for keys that are used without leaving the chest: they sign, encrypt and decrypt there, and each use is in the
// trail before its result leaves.
package keys

import (
	"errors"
	"sync"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/store"
	"tansu/internal/turns"
	"tansu/internal/usage"
)

// Keys is the room. Its methods are safe for concurrent use.
type Keys struct {
	heart   *chest.Chest
	records Records
	turns   *turns.Turns

	mu     sync.Mutex
	counts map[string]*counted  // of encryptions, by the version's id
	open   map[string]published // to anybody, by the drawer's id
}

// Records is what the room asks of a store.
type Records interface {
	usage.Records
	KeyNames(drawer string) ([]string, error)
}

// New opens the room over a heart.
func New(heart *chest.Chest, records Records, turns *turns.Turns) *Keys {
	return &Keys{heart: heart, records: records, turns: turns, counts: map[string]*counted{}, open: map[string]published{}}
}

// Op is what a key is used for.
type Op string

// The uses.
const (
	Sign    Op = "sign"     // a message: a signature, or a MAC
	Verify  Op = "verify"   // a message and a signature: whether they belong together
	Encrypt Op = "encrypt"  // a message: a JWE, which names the version
	Decrypt Op = "decrypt"  // a JWE: the message
	Rewrap  Op = "rewrap"   // a JWE: one under the current version, of the same message, which is not shown
	DataKey Op = "data_key" // random bytes, plain and as a JWE: whoever has them encrypts with them elsewhere
	Wrap    Op = "wrap"     // another key: wrapped by RFC 5649
	Unwrap  Op = "unwrap"   // a wrapped key: the key
	Agree   Op = "agree"    // a peer's public key: bytes that both sides derive
	Public  Op = "public"   // nothing: the public half
)

// Ops are all of them.
var Ops = []Op{Sign, Verify, Encrypt, Decrypt, Rewrap, DataKey, Wrap, Unwrap, Agree, Public}

// actions are what each use takes. To rewrap takes what encrypting takes: it shows nothing.
var actions = map[Op]access.Action{Sign: access.Sign, Verify: access.Verify, Encrypt: access.Encrypt, Decrypt: access.Decrypt,
	Rewrap: access.Encrypt, DataKey: access.Encrypt, Wrap: access.Encrypt, Unwrap: access.Decrypt, Agree: access.Decrypt,
	Public: access.SeeMetadata}

// Use is one use of a key. Members that an operation has no need of are empty.
type Use struct {
	Op         Op
	Message    []byte // to sign, to verify, to encrypt; the key to wrap
	Signature  []byte // to verify
	Ciphertext []byte // a JWE, or what was wrapped
	Associated []byte // data that a JWE is bound to; nil for none
	Scheme     cryptokey.Scheme
	Form       cryptokey.Form // of an ECDSA signature
	Peer       []byte         // a public key, as a JWK or PEM
	Salt, Info []byte
	Length     int  // of a data key, or of what is derived, in bytes; 0 for 32
	Hidden     bool // of a data key: only as a JWE, for whoever stores it for others
}

// Result is what came of a use.
type Result struct {
	Version    int // of the key that was used; 0 for none
	Scheme     cryptokey.Scheme
	Signature  []byte
	Ciphertext []byte
	Plaintext  []byte
	Valid      bool   // of a signature
	PublicKey  string // a JWK
	Err        error
}

// MostUses is how many uses one call may have.
const MostUses = 1000

// What rests on something that keeps changing is tried again, and in the end while nothing else may change. Others do not wait for it then,
// unless it is short: it has at most so many uses.
const (
	tries     = 4
	mostAlone = 50
)

// Use uses a key several times, each use decided and recorded by itself: some may be refused while others are done. All entries become
// durable in one commit, and nothing is returned before. A reference with a version uses that one; without, the current one, or the one
// that a ciphertext names.
func (k *Keys) Use(c chest.Caller, ref reference.Reference, uses []Use) (results []Result, err error) {
	if len(uses) == 0 || len(uses) > MostUses {
		return nil, chest.Invalid("uses", "uses are 1 to %d", MostUses)
	}
	if ref.Field != "" {
		return nil, chest.Invalid("reference", "a key has no fields")
	}
	for i := range uses {
		if actions[uses[i].Op] == 0 {
			return nil, chest.Invalid("op", "%.40q is not a use of a key; they are %v", string(uses[i].Op), Ops)
		}
	}
	results, err = k.useAll(c, ref, uses)
	if len(uses) > mostAlone {
		for n := 0; n < tries && errors.Is(err, store.ErrMoved); n++ {
			results, err = k.useAll(c, ref, uses)
		}
		if errors.Is(err, store.ErrMoved) {
			err = &chest.Error{Code: chest.Stale, Detail: "what this rests on keeps changing; try again with fewer uses in one call", Err: err}
		}
		return results, err
	}
	if errors.Is(err, store.ErrMoved) {
		err = k.heart.Try(func() error {
			results, err = k.useAll(c, ref, uses)
			return err
		})
	}
	return results, err
}

func (k *Keys) useAll(c chest.Caller, ref reference.Reference, uses []Use) ([]Result, error) {
	if len(uses) == 1 { // it needs no batch: whoever leads commits it with what others do
		result, err := k.use(c, ref, &uses[0], found{})
		result.Err = err
		if errors.Is(err, store.ErrMoved) {
			return nil, err
		}
		return []Result{result}, nil
	}
	batch := chest.NewBatch(len(uses))
	c = c.Batched(batch, k.heart.Now())
	results, ready := make([]Result, len(uses)), found{}
	wipe := func() {
		for i := range results {
			clear(results[i].Plaintext)
		}
	}
	for i := range uses {
		result, err := k.use(c, ref, &uses[i], ready)
		if errors.Is(err, store.ErrMoved) || batch.Lost(err) {
			wipe()
			return nil, err
		}
		result.Err = err
		results[i] = result
	}
	if err := k.heart.Flush(batch); err != nil {
		wipe()
		return nil, err
	}
	return results, nil
}

// use decides about one use, does it, and records it.
func (k *Keys) use(c chest.Caller, ref reference.Reference, u *Use, ready found) (result Result, err error) {
	action := actions[u.Op]
	a := k.heart.Attempt(c, action.String(), ref.Drawer+"/"+ref.Item)
	a.Entry.Version, a.Entry.Pinned = ref.Version, ref.Version != 0
	if string(u.Op) != action.String() {
		a.Entry.Detail = string(u.Op)
	}
	spot, err := k.decide(a, u.Op, ref)
	if err != nil {
		return result, err
	}
	one, err := k.find(a, spot, ref, u, ready)
	var closed *chest.Error
	if errors.As(err, &closed) && closed.Reason == string(lifecycle.Idle) { // as far as uses are counted: look again when all are
		if err = k.records.CatchUp(); err == nil {
			spot = a.St.At(ref.Drawer, ref.Item)
			one, err = k.find(a, spot, ref, u, ready)
		}
	}
	if err != nil {
		return Result{}, a.Fail(err)
	}
	if err := a.DeniedNow(action, one.home); err != nil {
		return Result{}, err
	}
	if result, err = k.do(c, one, u); err != nil {
		return Result{}, a.Fail(err)
	}
	a.Entry.Version, a.Entry.Grace = result.Version, one.grace
	if u.Op == Verify && !result.Valid {
		a.Entry.Detail = "not valid"
	}
	if one.home != "" {
		a.Entry.OldName, a.Entry.Detail = true, "now "+one.home
	}
	if err := a.Done(); err != nil {
		clear(result.Plaintext)
		return Result{}, err
	}
	return result, nil
}

// do does one use, as soon as it is the caller's turn if it takes long. Public halves of RSA are fast, and those of ECDSA are not.
func (k *Keys) do(c chest.Caller, o *one, u *Use) (Result, error) {
	slow := o.facts.Type.Slow() && u.Op != Public && u.Op != Encrypt && u.Op != DataKey
	if slow && (u.Op != Verify || o.facts.Type == cryptokey.ECDSAP384 || o.facts.Type == cryptokey.ECDSAP521) {
		done, err := k.turns.Take(c.Ctx(), c.ID)
		if err != nil {
			return Result{}, err
		}
		defer done()
	}
	return o.do(u)
}

// decide decides about one use. Whoever may see what is known of a key has its public half, and needs no other right to verify with that;
// and whoever may use a key may have its public half.
func (k *Keys) decide(a *chest.Attempt, op Op, ref reference.Reference) (chest.Spot, error) {
	action, others, what := actions[op], access.Action(0), "verify with the key "
	switch op {
	case Verify:
		others = access.SeeMetadata
	case Public:
		others, what = access.UseKey, "see the public half of "
	default:
		return a.Decide(action, ref.Drawer, ref.Item)
	}
	if err := a.Err(); err != nil {
		return chest.Spot{}, err
	}
	spot := a.St.For(a.Caller.ID, action|others, ref.Drawer, ref.Item)
	a.RestOnSpot(spot)
	ctx := a.Caller.Context(a.Entry.At)
	decision := a.St.Policy.Decide(a.St.QuestionAt(spot, a.Caller.ID, action, ctx))
	if spot.Item != nil && (op == Public || public(spot.Item)) {
		for other := range others.Each() {
			if also := a.St.Policy.Decide(a.St.QuestionAt(spot, a.Caller.ID, other, ctx)); !decision.Allowed && also.Allowed {
				decision = also
			}
		}
	}
	return spot, a.Answered(decision, what+a.Entry.Target, "", a.Remedy(action))
}

// public reports whether a key has a public half.
func public(it *chest.Item) bool {
	return len(it.Versions) > 0 && it.Versions[len(it.Versions)-1].PublicKey != ""
}
