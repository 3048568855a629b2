package envelope

import (
	"bytes"
	"errors"
	"testing"

	"tansu/internal/core/secretvalue"
)

// A drawer key under a master key takes that and the root key; the root key is rotated without the master key.
func TestADrawerUnderAMasterKeyTakesBoth(t *testing.T) {
	root, key, material := NewRoot("ch_1"), NewKey(), NewMasterMaterial()
	master := MasterKey("ch_1", "mk_1", material)
	wrapped := root.WrapDrawerKeyUnder(master, "dr_1", 1, key)
	opens := func(root *Root, master *Key, wrapped []byte) bool {
		got, err := root.UnwrapDrawerKeyUnder(master, "dr_1", 1, wrapped)
		return err == nil && got.bytes == key.bytes
	}
	if !opens(root, master, wrapped) {
		t.Fatal("both do not open it")
	}
	for what, other := range map[string]*Key{"other material": MasterKey("ch_1", "mk_1", NewMasterMaterial()),
		"the same as another master key": MasterKey("ch_1", "mk_2", material), "the same in another chest": MasterKey("ch_2", "mk_1", material)} {
		if opens(root, other, wrapped) {
			t.Errorf("%s opens it", what)
		}
	}
	if opens(NewRoot("ch_1"), master, wrapped) {
		t.Error("it opens without the root key")
	}
	if _, err := root.UnwrapDrawerKey("dr_1", 1, wrapped); !errors.Is(err, ErrNotAuthentic) {
		t.Errorf("it opens without the master key: %v", err)
	}
	if _, err := root.UnwrapDrawerKeyUnder(master, "dr_1", 2, wrapped); !errors.Is(err, ErrNotAuthentic) {
		t.Errorf("it opens at another place: %v", err)
	}
	next := root.Turned()
	moved, err := root.RewrapDrawerKey(next, "dr_1", 1, wrapped)
	if err != nil || !opens(next, master, moved) || opens(root, master, moved) {
		t.Errorf("under the next root key: %v", err)
	}
}

func TestMaterialOfAMasterKeyIsARandomKey(t *testing.T) {
	for range 1000 {
		if err := CheckMaster(NewMasterMaterial()); err != nil {
			t.Fatal(err)
		}
	}
	for what, bad := range map[string][]byte{"text": []byte("0123456789abcdefghijklmnopqrstuv"), "zeros": make([]byte, 32), "nothing": nil,
		"repeated": bytes.Repeat([]byte{1, 200, 3, 77}, 8), "too short": NewMasterMaterial().Reveal()[:31]} {
		if CheckMaster(secretvalue.New(bad)) == nil {
			t.Errorf("%s is taken", what)
		}
	}
	one, other := NewMasterMaterial(), NewMasterMaterial()
	if f := MasterFingerprint("ch_1", one); f == MasterFingerprint("ch_1", other) || f == MasterFingerprint("ch_2", one) || len(f) != 16 {
		t.Errorf("the fingerprint %s", f)
	}
}
