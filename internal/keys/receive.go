package keys

import (
	"encoding/base64"
	"encoding/json"
	"errors"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/reference"
	"tansu/internal/keyrow"
)

// Receive opens a key that was wrapped for its way to a key of the chest ([cryptokey.Key.BringWrapped]), so that no machine on the way has
// seen it, and returns it as it is brought: PKCS #8, or a JWK. It takes what decrypting takes, as whoever may decrypt could unwrap it as
// well. The type is that of a symmetric key, whose bytes do not say what they are.
func (k *Keys) Receive(c chest.Caller, ref reference.Reference, wrapped []byte, kind cryptokey.Type) ([]byte, error) {
	a := k.heart.Attempt(c, access.Decrypt.String(), ref.Drawer+"/"+ref.Item)
	a.Entry.Version, a.Entry.Detail = ref.Version, "receive a key"
	spot, err := a.Decide(access.Decrypt, ref.Drawer, ref.Item)
	if err != nil {
		return nil, err
	}
	o, err := k.find(a, spot, ref, &Use{Op: Unwrap}, found{})
	if err != nil {
		return nil, a.Fail(err)
	}
	if o.facts.Type.Slow() {
		done, err := k.turns.Take(c.Ctx(), c.ID)
		if err != nil {
			return nil, a.Fail(err)
		}
		defer done()
	}
	var received *cryptokey.Key
	for _, operations := range keyrow.Usual(kind) {
		if received, err = o.key.BringWrapped(wrapped, kind, operations); err == nil || errors.Is(err, cryptokey.ErrNotOpened) {
			break
		}
	}
	if errors.Is(err, cryptokey.ErrNotOpened) {
		return nil, a.Fail(chest.Invalid("brought", "it cannot be unwrapped with this key"))
	}
	if err != nil {
		return nil, a.Fail(keyrow.Told(err))
	}
	text, err := received.Stored()
	if err == nil && received.Public() == nil {
		secret := text
		text, err = json.Marshal(map[string]string{"kty": "oct", "k": base64.RawURLEncoding.EncodeToString(secret)})
		clear(secret)
	}
	if err != nil {
		return nil, a.Fail(err)
	}
	a.Entry.Version = o.number
	if err := a.Done(); err != nil {
		clear(text)
		return nil, err
	}
	return text, nil
}
