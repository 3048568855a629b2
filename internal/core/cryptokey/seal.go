package cryptokey

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hpke"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/json"
	"strings"
)

// MostEncryptions is how many messages may be encrypted under one version of an aes-256 key. Its nonces are random, of 96 bits: among 2^32
// of them two are the same with a probability of about 2^64/2^97 = 2^-33 (NIST SP 800-38D, section 8.3, allows 2^-32), and a nonce that is
// used twice gives away the difference of two messages and the key of the authentication. Whoever keeps the key counts its uses.
const MostEncryptions = 1 << 32

// MostPlaintext bounds one message, in bytes; what is longer is encrypted as a stream.
const MostPlaintext = 1 << 20

// Algorithms of a JWE (RFC 7518, sections 4.1 and 5.1).
const (
	algorithmDirect = "dir"
	algorithmOAEP   = "RSA-OAEP-256"
	encryptionGCM   = "A256GCM"
	nonceSize       = 12 // bytes (RFC 7518, section 5.3)
	tagSize         = 16
)

// header is the protected header of a JWE. Its members are in the order in which they are written.
type header struct {
	Algorithm  string `json:"alg"`
	Encryption string `json:"enc"`
	KeyID      string `json:"kid,omitempty"`
}

// flattened is a JWE in flattened JSON serialization (RFC 7516, section 7.2.2): the form that can have associated data.
type flattened struct {
	Protected  string `json:"protected"`
	Encrypted  string `json:"encrypted_key,omitempty"`
	IV         string `json:"iv"`
	Ciphertext string `json:"ciphertext"`
	Tag        string `json:"tag"`
	AAD        string `json:"aad,omitempty"`
}

var base64url = base64.RawURLEncoding.Strict()

// Encrypt encrypts a message as a JWE that names a key id: in compact serialization, or, with associated data, in flattened JSON. The
// associated data are readable in it; whoever decrypts gives them again, so that a ciphertext is not taken for that of something else.
// Under an aes-256 key the message is encrypted directly, and MostEncryptions holds; under any other with a content key of its own.
func (k *Key) Encrypt(id string, plaintext, associated []byte) ([]byte, error) {
	if err := k.need(Encrypt); err != nil {
		return nil, err
	}
	if k.secret == nil {
		return k.Public().Encrypt(id, plaintext, associated)
	}
	aead, err := k.gcm()
	if err != nil {
		return nil, err
	}
	return seal(header{algorithmDirect, encryptionGCM, id}, aead, nil, plaintext, associated)
}

// Encrypt encrypts a message to the holder of the key, as [Key.Encrypt] does. Anybody can: nothing tells who did.
func (p *Public) Encrypt(id string, plaintext, associated []byte) ([]byte, error) {
	key, isRSA := p.key.(*rsa.PublicKey)
	hybrid, isHybrid := p.key.(hpke.PublicKey)
	if !isRSA && !isHybrid || p.may&Encryption == 0 {
		return nil, invalid("key_ops", "this key is for %s, and nothing is encrypted to it", p.may)
	}
	content := make([]byte, 32)
	_, _ = rand.Read(content)
	defer clear(content)
	var encrypted []byte
	var err error
	algorithm := algorithmOAEP
	if isHybrid {
		algorithm = algorithmHybrid
		encrypted, err = sealHybrid(hybrid, content)
	} else {
		encrypted, err = rsa.EncryptOAEP(crypto.SHA256.New(), rand.Reader, key, content, nil) // RFC 7518, section 4.3
	}
	if err != nil {
		return nil, err
	}
	aead, err := gcm(content)
	if err != nil {
		return nil, err
	}
	return seal(header{algorithm, encryptionGCM, id}, aead, encrypted, plaintext, associated)
}

// seal is RFC 7516, section 5.1, from step 11 on.
func seal(h header, aead cipher.AEAD, encrypted, plaintext, associated []byte) ([]byte, error) {
	if len(plaintext) > MostPlaintext {
		return nil, invalid("message", "the message has %d bytes; the most is %d, and longer ones are encrypted as a stream", len(plaintext),
			MostPlaintext)
	}
	text, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	protected := base64url.AppendEncode(nil, text)
	f := flattened{Protected: string(protected), Encrypted: base64url.EncodeToString(encrypted)}
	if associated != nil {
		f.AAD = base64url.EncodeToString(associated)
	}
	sealed := aead.Seal(make([]byte, 0, nonceSize+len(plaintext)+tagSize), nil, plaintext, f.authenticated(associated != nil))
	iv, ciphertext, tag := sealed[:nonceSize], sealed[nonceSize:len(sealed)-tagSize], sealed[len(sealed)-tagSize:]
	if associated != nil {
		f.IV, f.Ciphertext, f.Tag = base64url.EncodeToString(iv), base64url.EncodeToString(ciphertext), base64url.EncodeToString(tag)
		return json.Marshal(f)
	}
	compact := make([]byte, 0, len(protected)+len(f.Encrypted)+base64url.EncodedLen(len(sealed))+8)
	compact = append(append(append(append(compact, protected...), '.'), f.Encrypted...), '.')
	compact = base64url.AppendEncode(append(base64url.AppendEncode(compact, iv), '.'), ciphertext)
	return base64url.AppendEncode(append(compact, '.'), tag), nil
}

// gcm is that of a key that encrypts by itself; the key's schedule is worked out once.
func (k *Key) gcm() (cipher.AEAD, error) {
	k.once.Do(func() { k.aead, k.aeadErr = gcm(k.secret) })
	return k.aead, k.aeadErr
}

// gcm is AES-256-GCM that draws its nonces itself and puts them first, as FIPS 140-3 mode wants it.
func gcm(key []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCMWithRandomNonce(block)
}

// authenticated is what the tag covers besides the ciphertext (RFC 7516, section 5.1, step 14).
func (f *flattened) authenticated(associated bool) []byte {
	if associated {
		return []byte(f.Protected + "." + f.AAD)
	}
	return []byte(f.Protected)
}

// Sealed is a JWE that was read, and of which nothing is proved yet.
type Sealed struct {
	header header
	parts  flattened
}

// KeyID is what the JWE says that it was encrypted under; nobody has vouched for it.
func (s *Sealed) KeyID() string { return s.header.KeyID }

// ParseSealed reads a JWE in compact or flattened JSON serialization. It takes those only that [Key.Encrypt] makes, or another program
// with the same algorithms; anything else is [ErrNotOpened].
func ParseSealed(text []byte) (*Sealed, error) {
	s := &Sealed{}
	if strings.HasPrefix(string(text), "{") {
		decoder := json.NewDecoder(bytes.NewReader(text))
		decoder.DisallowUnknownFields() // a header that nothing authenticates decides nothing
		if decoder.Decode(&s.parts) != nil || decoder.More() {
			return nil, ErrNotOpened
		}
	} else {
		parts := strings.Split(string(text), ".")
		if len(parts) != 5 {
			return nil, ErrNotOpened
		}
		s.parts = flattened{Protected: parts[0], Encrypted: parts[1], IV: parts[2], Ciphertext: parts[3], Tag: parts[4]}
	}
	protected, err := base64url.DecodeString(s.parts.Protected)
	if err != nil || json.Unmarshal(protected, &s.header) != nil {
		return nil, ErrNotOpened
	}
	// A header that asks for more, such as compression or something critical (section 4.1.13), is not opened.
	var members map[string]json.RawMessage
	if json.Unmarshal(protected, &members) != nil {
		return nil, ErrNotOpened
	}
	for name := range members {
		switch name {
		case "alg", "enc", "kid", "typ", "cty":
		default:
			return nil, ErrNotOpened
		}
	}
	return s, nil
}

// Decrypt opens a JWE. Anything but one that was encrypted under this key, with these associated data (nil for none), is [ErrNotOpened].
// The algorithm is the key's: what the header says is compared with it, and decides nothing.
func (k *Key) Decrypt(s *Sealed, associated []byte) ([]byte, error) {
	if err := k.need(Decrypt); err != nil {
		return nil, err
	}
	sealed, err := s.bytes(associated)
	if err != nil {
		return nil, err
	}
	content, algorithm := k.secret, algorithmDirect
	if k.secret == nil {
		encrypted, err := base64url.DecodeString(s.parts.Encrypted)
		if err != nil {
			return nil, ErrNotOpened
		}
		// A wrong one is replaced by a random one, and fails where every wrong ciphertext fails (RFC 7516, section 11.5).
		content = make([]byte, 32)
		_, _ = rand.Read(content)
		defer clear(content)
		var opened []byte
		switch private := k.private.(type) {
		case *rsa.PrivateKey:
			algorithm = algorithmOAEP
			opened, err = rsa.DecryptOAEP(crypto.SHA256.New(), nil, private, encrypted, nil)
		case hpke.PrivateKey:
			algorithm = algorithmHybrid
			opened, err = openContent(private, encrypted)
		}
		if err == nil && len(opened) == len(content) {
			copy(content, opened)
		}
		clear(opened)
	} else if s.parts.Encrypted != "" {
		return nil, ErrNotOpened
	}
	if content == nil || s.header.Algorithm != algorithm || s.header.Encryption != encryptionGCM {
		return nil, ErrNotOpened
	}
	var aead cipher.AEAD
	if k.secret != nil {
		aead, err = k.gcm()
	} else {
		aead, err = gcm(content)
	}
	if err != nil {
		return nil, err
	}
	plaintext, err := aead.Open(nil, nil, sealed, s.parts.authenticated(associated != nil))
	if err != nil {
		return nil, ErrNotOpened
	}
	return plaintext, nil
}

// bytes are nonce, ciphertext and tag, if the associated data are those of the JWE.
func (s *Sealed) bytes(associated []byte) (sealed []byte, err error) {
	if associated == nil && s.parts.AAD != "" || associated != nil && s.parts.AAD != base64url.EncodeToString(associated) {
		return nil, ErrNotOpened
	}
	for _, part := range []struct {
		text string
		size int // bytes; 0 for any
	}{{s.parts.IV, nonceSize}, {s.parts.Ciphertext, 0}, {s.parts.Tag, tagSize}} {
		decoded, err := base64url.DecodeString(part.text)
		if err != nil || part.size != 0 && len(decoded) != part.size {
			return nil, ErrNotOpened
		}
		sealed = append(sealed, decoded...)
	}
	return sealed, nil
}
