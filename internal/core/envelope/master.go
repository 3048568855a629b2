package envelope

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"

	"tansu/internal/core/secretvalue"
)

// Some drawers are under a master key as well as under the root key: their keys are wrapped by the one, and that by the other. Neither
// opens them alone, so that whoever has the master key can close the drawers by taking it away, and whoever finds it has nothing.
//
// What is stored of a drawer key under a master key is Overhead bytes longer than of one that is not. The keys that wrap are derived from
// the material with HKDF-SHA256 (RFC 5869), so that the same material in two chests, or as two master keys, makes two keys.

// MasterSize is the size of the material of a master key, in bytes.
const MasterSize = KeySize

// NewMasterMaterial makes the material of a master key.
func NewMasterMaterial() secretvalue.Value {
	material := make([]byte, MasterSize)
	_, _ = rand.Read(material) // never fails
	return secretvalue.New(material)
}

// CheckMaster checks material that somebody brings: 32 bytes that are not obviously something else. It refuses one random key in 10^13.
func CheckMaster(material secretvalue.Value) error {
	if material.Len() != MasterSize {
		return fmt.Errorf("a master key is %d bytes, and this is %d: openssl rand -out FILE %d makes one", MasterSize, material.Len(), MasterSize)
	}
	text, seen := true, map[byte]bool{}
	for _, b := range material.Reveal() {
		seen[b] = true
		text = text && b >= ' ' && b <= '~'
	}
	if text || len(seen) < MasterSize/4 {
		return fmt.Errorf("this is text, or the same few bytes again and again, and no random key: openssl rand -out FILE %d makes one",
			MasterSize)
	}
	return nil
}

// MasterKey is the key that a master key's material wraps the keys of drawers with, in a chest.
func MasterKey(chest, id string, material secretvalue.Value) *Key {
	return newKey(derive(material.Reveal(), chest, "master key "+id))
}

// MasterFingerprint tells one material from another without giving anything of it away: 16 hexadecimal digits.
func MasterFingerprint(chest string, material secretvalue.Value) string {
	sum := derive(material.Reveal(), chest, "master key fingerprint")
	return hex.EncodeToString(sum[:8])
}

// SealMaster seals the material of a master key, or what opens it, for storage.
func (r *Root) SealMaster(id string, material []byte) []byte {
	return r.wrapping.Seal(Place{Purpose: PurposeMaster, Chest: r.chest, Item: id}, material)
}

// OpenMaster opens what SealMaster sealed.
func (r *Root) OpenMaster(id string, sealed []byte) ([]byte, error) {
	return r.wrapping.Open(Place{Purpose: PurposeMaster, Chest: r.chest, Item: id}, sealed)
}

// WrapDrawerKeyUnder is [Root.WrapDrawerKey] for a drawer under a master key.
func (r *Root) WrapDrawerKeyUnder(master *Key, drawer string, number int, key *Key) []byte {
	inside := master.Wrap(Place{Purpose: PurposeUnder, Chest: r.chest, Drawer: drawer, Number: number}, key)
	return r.wrapping.Seal(Place{Purpose: PurposeDrawerKey, Chest: r.chest, Drawer: drawer, Number: number}, inside)
}

// UnwrapDrawerKeyUnder opens what WrapDrawerKeyUnder sealed for the same drawer and number.
func (r *Root) UnwrapDrawerKeyUnder(master *Key, drawer string, number int, wrapped []byte) (*Key, error) {
	inside, err := r.wrapping.Open(Place{Purpose: PurposeDrawerKey, Chest: r.chest, Drawer: drawer, Number: number}, wrapped)
	if err != nil {
		return nil, err
	}
	return master.Unwrap(Place{Purpose: PurposeUnder, Chest: r.chest, Drawer: drawer, Number: number}, inside)
}
