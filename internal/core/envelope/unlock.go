package envelope

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"time"

	"golang.org/x/crypto/argon2"

	"tansu/internal/core/secretvalue"
)

// Unlock material is what people hold: a passphrase, stretched with Argon2id (RFC 9106); a key file with 256 random bits, which needs
// no stretching; or the secret of 256 bits that some shares give (package shares). Argon2id is outside the FIPS 140-3 module: in that
// mode use another one.

// Unlock methods.
const (
	MethodPassphrase = "passphrase"
	MethodKeyFile    = "key_file"
	MethodShares     = "shares"
	MethodHardware   = "hardware" // what a key file has, sealed by a TPM or a token (package hardware)
)

// MinPassphrase is the fewest bytes of a passphrase.
const MinPassphrase = 12

// ErrWrongMaterial says that the passphrase or key file does not open this chest, and nothing more.
var ErrWrongMaterial = errors.New("wrong passphrase or key file")

// CheckPassphrase refuses a passphrase that is too short.
func CheckPassphrase(passphrase secretvalue.Value) error {
	if passphrase.Len() < MinPassphrase {
		return fmt.Errorf("a passphrase has at least %d bytes; this one has %d", MinPassphrase, passphrase.Len())
	}
	return nil
}

// Stretch are the costs of Argon2id.
type Stretch struct {
	Passes  uint32 `json:"passes"`
	Memory  uint32 `json:"memory_kib"` // KiB
	Threads uint8  `json:"threads"`
}

// Bounds on what a stored Stretch may ask for: a changed database file must not make the service take all memory.
const (
	maxPasses  = 1000
	maxMemory  = 4 << 20 // 4 GiB
	maxThreads = 64
)

// Check refuses costs outside the bounds.
func (s Stretch) Check() error {
	if s.Passes < 1 || s.Passes > maxPasses || s.Memory < 8*uint32(s.Threads) || s.Memory > maxMemory || s.Threads < 1 ||
		s.Threads > maxThreads {
		return fmt.Errorf("the stored passphrase costs are out of bounds: %d passes, %d KiB, %d threads", s.Passes, s.Memory, s.Threads)
	}
	return nil
}

func (s Stretch) key(secret, salt []byte) []byte {
	return argon2.IDKey(secret, salt, s.Passes, s.Memory, s.Threads, KeySize)
}

// leastPasses is the floor, whatever a machine that is busy just now says: with 64 MiB it is what RFC 9106 recommends where memory is
// short (section 4, the second choice), and above the figures of OWASP's Password Storage Cheat Sheet.
const leastPasses = 3

// Calibrate measures this machine and returns costs at which one stretching takes about target: 64 MiB, the threads
// given, and as many passes as fit, at least 3 (RFC 9106, section 4, chooses memory first and passes last). The clock is the
// caller's.
func Calibrate(target time.Duration, threads uint8, now func() time.Time) Stretch {
	costs := Stretch{Passes: 1, Memory: 64 << 10, Threads: max(1, min(threads, 4))}
	start := now()
	costs.key([]byte("measure"), make([]byte, 16))
	once := max(now().Sub(start), time.Millisecond)
	costs.Passes = max(leastPasses, min(maxPasses, uint32(target/once)))
	return costs
}

// Slot is what is stored of one unlock method.
type Slot struct {
	Method  string
	Salt    []byte
	Costs   Stretch // of a passphrase; zero for others
	Wrapped []byte  // the unlock key, under the key that the material gives
}

// NewSlot seals the unlock key of a chest under unlock material. For a passphrase costs must be set, for others they are ignored.
func NewSlot(chest string, unlock *Key, method string, material secretvalue.Value, costs Stretch) (Slot, error) {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	slot := Slot{Method: method, Salt: salt}
	if method == MethodPassphrase {
		if err := CheckPassphrase(material); err != nil {
			return Slot{}, err
		}
		slot.Costs = costs
	}
	key, err := slot.key(chest, material)
	if err != nil {
		return Slot{}, err
	}
	defer key.Erase()
	slot.Wrapped = key.Wrap(slot.place(PurposeUnlockKey, chest), unlock)
	return slot, nil
}

// Open gives the unlock key back, or [ErrWrongMaterial]. A wrong passphrase costs as much time as the right one.
func (s Slot) Open(chest string, material secretvalue.Value) (*Key, error) {
	key, err := s.key(chest, material)
	if err != nil {
		return nil, err
	}
	defer key.Erase()
	unlock, err := key.Unwrap(s.place(PurposeUnlockKey, chest), s.Wrapped)
	if err != nil {
		return nil, ErrWrongMaterial
	}
	return unlock, nil
}

// OpenFirstForm opens a slot of a chest from before there were unlock keys, in which the material's key wraps the root key itself.
func (s Slot) OpenFirstForm(chest string, material secretvalue.Value) (*Root, error) {
	key, err := s.key(chest, material)
	if err != nil {
		return nil, err
	}
	defer key.Erase()
	root, err := key.Unwrap(s.place(PurposeRootKey, chest), s.Wrapped)
	if err != nil {
		return nil, ErrWrongMaterial
	}
	return withBase(chest, root, nil)
}

// WrapRoot seals the root key under an unlock key.
func WrapRoot(unlock *Key, r *Root) []byte {
	return unlock.Wrap(Place{Purpose: PurposeRootKey, Chest: r.chest, Kind: "unlock key"}, r.root)
}

// OpenRoot opens what WrapRoot sealed, with the base that is stored beside it ([Root.SealedBase]).
func OpenRoot(chest string, unlock *Key, wrapped, sealedBase []byte) (*Root, error) {
	root, err := unlock.Unwrap(Place{Purpose: PurposeRootKey, Chest: chest, Kind: "unlock key"}, wrapped)
	if err != nil {
		return nil, fmt.Errorf("open the root key: %w", err)
	}
	return withBase(chest, root, sealedBase)
}

func (s Slot) place(purpose, chest string) Place {
	return Place{Purpose: purpose, Chest: chest, Kind: s.Method}
}

func (s Slot) key(chest string, material secretvalue.Value) (*Key, error) {
	switch s.Method {
	case MethodPassphrase:
		if err := s.Costs.Check(); err != nil {
			return nil, err
		}
		stretched := s.Costs.key(material.Reveal(), s.Salt)
		defer clear(stretched)
		return newKey(derive(stretched, chest, "unlock by passphrase")), nil
	case MethodKeyFile, MethodHardware:
		secret, err := parseKeyFile(s.Method, material.Reveal())
		if err != nil {
			return nil, err
		}
		defer clear(secret)
		use := "unlock by key file"
		if s.Method == MethodHardware {
			use = "unlock by hardware"
		}
		return newKey(derive(append(bytes.Clone(s.Salt), secret...), chest, use)), nil
	case MethodShares:
		if material.Len() != KeySize {
			return nil, ErrWrongMaterial
		}
		return newKey(derive(append(bytes.Clone(s.Salt), material.Reveal()...), chest, "unlock by shares")), nil
	default:
		return nil, fmt.Errorf("unknown unlock method %q", s.Method)
	}
}

// keyFileHeaders are how key files begin, by the method that they are for.
var keyFileHeaders = map[string]string{MethodKeyFile: "tansu-unlock-key-1:", MethodHardware: "tansu-hardware-key-1:"}

// MethodOf is the method that some material is for, by its form: a key file has a header, and what has none is a passphrase.
func MethodOf(material secretvalue.Value) string {
	for method, header := range keyFileHeaders {
		if bytes.HasPrefix(bytes.TrimSpace(material.Reveal()), []byte(header)) {
			return method
		}
	}
	return MethodPassphrase
}

// NewKeyFile makes the content of a key file: a header, 32 random bytes in base64, and a line feed. With [MethodHardware] it is what
// hardware is to seal.
func NewKeyFile(method string) secretvalue.Value {
	secret := make([]byte, KeySize)
	_, _ = rand.Read(secret)
	return secretvalue.FromString(keyFileHeaders[method] + base64.StdEncoding.EncodeToString(secret) + "\n")
}

func parseKeyFile(method string, content []byte) ([]byte, error) {
	encoded, found := bytes.CutPrefix(bytes.TrimSpace(content), []byte(keyFileHeaders[method]))
	if !found {
		return nil, ErrWrongMaterial
	}
	secret, err := base64.StdEncoding.Strict().DecodeString(string(encoded))
	if err != nil || len(secret) != KeySize {
		return nil, ErrWrongMaterial
	}
	return secret, nil
}
