//go:build cgo

package token

import (
	"cmp"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/miekg/pkcs11"
)

// blob is what AES-GCM in the token gave (NIST SP 800-38D).
type blob struct {
	Nonce      []byte `json:"nonce"`
	Ciphertext []byte `json:"ciphertext"`
}

const (
	nonceSize = 12
	tagBits   = 128
	keyBytes  = 32
)

// unlocking is the purpose of what is sealed for none that is said. The purpose is authenticated with it, so that nothing else that the key
// encrypted is taken for it.
const unlocking = "tansu unlock key"

// session is a session with a token in which somebody is logged in.
type session struct {
	library *pkcs11.Ctx
	handle  pkcs11.SessionHandle
}

func (p place) open() (s session, err error) {
	pin, err := p.readPIN()
	if err != nil {
		return s, err
	}
	if s.library = pkcs11.New(p.module); s.library == nil {
		return s, fmt.Errorf("%s cannot be loaded as a library of a token", p.module)
	}
	if err := s.library.Initialize(); err != nil {
		s.library.Destroy()
		return s, fmt.Errorf("start the token's library: %w", err)
	}
	slot, err := p.slot(s.library)
	if err == nil {
		s.handle, err = s.library.OpenSession(slot, pkcs11.CKF_SERIAL_SESSION|pkcs11.CKF_RW_SESSION)
	}
	if err == nil {
		err = s.library.Login(s.handle, pkcs11.CKU_USER, pin)
	}
	if err != nil {
		s.close()
		return s, explain(err)
	}
	return s, nil
}

func (s session) close() {
	_ = s.library.Finalize() // ends sessions and the login
	s.library.Destroy()
}

// explain says in words what people run into.
func explain(err error) error {
	var code pkcs11.Error
	if !errors.As(err, &code) {
		return err
	}
	switch code {
	case pkcs11.CKR_PIN_INCORRECT:
		return errors.New("the token says that the PIN is wrong; after a few more tries it locks itself")
	case pkcs11.CKR_PIN_LOCKED:
		return errors.New("the token has locked itself after too many wrong PINs")
	}
	return err
}

func (p place) slot(library *pkcs11.Ctx) (found uint, err error) {
	slots, err := library.GetSlotList(true)
	if err != nil {
		return 0, fmt.Errorf("look for tokens: %w", err)
	}
	matches := 0
	for _, slot := range slots {
		info, err := library.GetTokenInfo(slot)
		if err == nil && (p.token == "" || info.Label == p.token) && (p.serial == "" || info.SerialNumber == p.serial) {
			found = slot
			matches++
		}
	}
	if matches != 1 {
		return 0, fmt.Errorf("%d of the %d tokens that are there match the URI; exactly one must", matches, len(slots))
	}
	return found, nil
}

// key finds the key, or makes it when it may: one that cannot be read out of the token.
func (s session) key(label string, mayMake bool) (pkcs11.ObjectHandle, error) {
	named := []*pkcs11.Attribute{pkcs11.NewAttribute(pkcs11.CKA_CLASS, pkcs11.CKO_SECRET_KEY), pkcs11.NewAttribute(pkcs11.CKA_LABEL, label)}
	if err := s.library.FindObjectsInit(s.handle, named); err != nil {
		return 0, fmt.Errorf("look for the key: %w", err)
	}
	found, _, err := s.library.FindObjects(s.handle, 2)
	if err := errors.Join(err, s.library.FindObjectsFinal(s.handle)); err != nil {
		return 0, fmt.Errorf("look for the key: %w", err)
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return 0, fmt.Errorf("the token has several keys named %s", label)
	case !mayMake:
		return 0, fmt.Errorf("the token has no key named %s any more", label)
	}
	made, err := s.library.GenerateKey(s.handle, []*pkcs11.Mechanism{pkcs11.NewMechanism(pkcs11.CKM_AES_KEY_GEN, nil)}, append(named,
		pkcs11.NewAttribute(pkcs11.CKA_TOKEN, true), pkcs11.NewAttribute(pkcs11.CKA_PRIVATE, true),
		pkcs11.NewAttribute(pkcs11.CKA_SENSITIVE, true), pkcs11.NewAttribute(pkcs11.CKA_EXTRACTABLE, false),
		pkcs11.NewAttribute(pkcs11.CKA_ENCRYPT, true), pkcs11.NewAttribute(pkcs11.CKA_DECRYPT, true),
		pkcs11.NewAttribute(pkcs11.CKA_VALUE_LEN, keyBytes)))
	if err != nil {
		return 0, fmt.Errorf("make an AES key in the token: %w", err)
	}
	return made, nil
}

// Seal seals some bytes by a key in a token for a purpose, empty for unlocking. The key is made if it is not there.
func Seal(where, purpose string, material []byte) (json.RawMessage, error) {
	p, err := parse(where)
	if err != nil {
		return nil, err
	}
	s, err := p.open()
	if err != nil {
		return nil, err
	}
	defer s.close()
	key, err := s.key(p.object, true)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, nonceSize)
	_, _ = rand.Read(nonce)
	sealed, err := s.gcm(nonce, purpose, func(way []*pkcs11.Mechanism) ([]byte, error) {
		if err := s.library.EncryptInit(s.handle, way, key); err != nil {
			return nil, err
		}
		return s.library.Encrypt(s.handle, material)
	})
	if err != nil {
		return nil, fmt.Errorf("the token sealed nothing: %w", err)
	}
	return json.Marshal(blob{Nonce: nonce, Ciphertext: sealed})
}

// Open opens what Seal gave, by the same key, for the same purpose.
func Open(where, purpose string, content json.RawMessage) ([]byte, error) {
	p, err := parse(where)
	if err != nil {
		return nil, err
	}
	var b blob
	if err := json.Unmarshal(content, &b); err != nil || len(b.Nonce) != nonceSize {
		return nil, errors.New("this is not what a token sealed")
	}
	s, err := p.open()
	if err != nil {
		return nil, err
	}
	defer s.close()
	key, err := s.key(p.object, false)
	if err != nil {
		return nil, err
	}
	material, err := s.gcm(b.Nonce, purpose, func(way []*pkcs11.Mechanism) ([]byte, error) {
		if err := s.library.DecryptInit(s.handle, way, key); err != nil {
			return nil, err
		}
		return s.library.Decrypt(s.handle, b.Ciphertext)
	})
	if err != nil {
		return nil, fmt.Errorf("the token's key is not the one that it was sealed by (%w)", err)
	}
	return material, nil
}

func (s session) gcm(nonce []byte, purpose string, do func([]*pkcs11.Mechanism) ([]byte, error)) ([]byte, error) {
	parameters := pkcs11.NewGCMParams(nonce, []byte(cmp.Or(purpose, unlocking)), tagBits)
	defer parameters.Free()
	return do([]*pkcs11.Mechanism{pkcs11.NewMechanism(pkcs11.CKM_AES_GCM, parameters)})
}
