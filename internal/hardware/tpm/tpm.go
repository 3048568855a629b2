// Package tpm seals some bytes to a TPM 2.0 and to the state that its machine was started in.
package tpm

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/google/go-tpm/tpm2"
	"github.com/google/go-tpm/tpm2/transport"
	"github.com/google/go-tpm/tpm2/transport/linuxtpm"
	"github.com/google/go-tpm/tpm2/transport/linuxudstpm"
)

// Scheme is how the place begins: tpm:, tpm:pcrs=7 or tpm:pcrs=0,7&device=/dev/tpmrm0.
const Scheme = "tpm:"

// place says which TPM, and which of its registers must be as they were. Without any said, it is register 7: whether and by whose keys
// Secure Boot is on (TCG, PC Client Platform Firmware Profile, 3.3.4.8). It survives updates of firmware and kernel, as those before it
// do not, and another disk or system that is not signed changes it.
type place struct {
	device string
	pcrs   []uint
}

func parse(text string) (p place, err error) {
	p = place{device: "/dev/tpmrm0", pcrs: []uint{7}}
	options, err := url.ParseQuery(strings.TrimPrefix(text, Scheme))
	if err != nil {
		return p, fmt.Errorf("%s: %w", text, err)
	}
	for name, values := range options {
		switch name {
		case "device":
			p.device = values[0]
		case "pcrs":
			p.pcrs = nil
			for _, one := range strings.Split(values[0], ",") {
				number, err := strconv.ParseUint(one, 10, 8)
				if err != nil || number > 23 {
					return p, fmt.Errorf("%q is not a register of a TPM: they are numbered from 0 to 23", one)
				}
				p.pcrs = append(p.pcrs, uint(number))
			}
		default:
			return p, fmt.Errorf("tpm: has the options pcrs and device, and not %q", name)
		}
	}
	return p, nil
}

// open opens a device, or the socket of a TPM in software.
func (p place) open() (transport.TPMCloser, error) {
	info, err := os.Stat(p.device)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("there is no TPM at %s", p.device)
	}
	if err != nil {
		return nil, err
	}
	if info.Mode()&os.ModeSocket != 0 {
		return linuxudstpm.Open(p.device)
	}
	return linuxtpm.Open(p.device)
}

func (p place) selection() tpm2.TPMLPCRSelection {
	one := tpm2.TPMSPCRSelection{Hash: tpm2.TPMAlgSHA256, PCRSelect: tpm2.PCClientCompatible.PCRs(p.pcrs...)}
	return tpm2.TPMLPCRSelection{PCRSelections: []tpm2.TPMSPCRSelection{one}}
}

// blob is the object that the TPM gave; its private part is encrypted by the TPM's own key.
type blob struct {
	Public  []byte `json:"public"`
	Private []byte `json:"private"`
}

// storage makes the storage root key, which comes out the same each time. Sessions are salted to it, so that what goes over the wire
// between processor and TPM is encrypted.
func storage(t transport.TPM) (parent tpm2.AuthHandle, done func(), encrypted func(tpm2.AuthOption) tpm2.Session, err error) {
	made, err := tpm2.CreatePrimary{PrimaryHandle: tpm2.TPMRHOwner, InPublic: tpm2.New2B(tpm2.ECCSRKTemplate)}.Execute(t)
	if err != nil {
		return parent, nil, nil, fmt.Errorf("the TPM's storage key: %w", err)
	}
	public, err := made.OutPublic.Contents()
	if err != nil {
		return parent, nil, nil, fmt.Errorf("the TPM's storage key: %w", err)
	}
	encrypted = func(way tpm2.AuthOption) tpm2.Session {
		return tpm2.HMAC(tpm2.TPMAlgSHA256, 16, way, tpm2.Salted(made.ObjectHandle, *public))
	}
	done = func() { _, _ = tpm2.FlushContext{FlushHandle: made.ObjectHandle}.Execute(t) }
	return tpm2.AuthHandle{Handle: made.ObjectHandle, Name: made.Name, Auth: tpm2.PasswordAuth(nil)}, done, encrypted, nil
}

// Seal seals some bytes, at most 128, to the TPM and the registers that the place names.
func Seal(where string, material []byte) (json.RawMessage, error) {
	p, err := parse(where)
	if err != nil {
		return nil, err
	}
	t, err := p.open()
	if err != nil {
		return nil, err
	}
	defer func() { _ = t.Close() }()
	parent, done, encrypted, err := storage(t)
	if err != nil {
		return nil, err
	}
	defer done()
	trial, close, err := tpm2.PolicySession(t, tpm2.TPMAlgSHA256, 16, tpm2.Trial())
	if err != nil {
		return nil, fmt.Errorf("the TPM's policy: %w", err)
	}
	defer func() { _ = close() }()
	if _, err := (tpm2.PolicyPCR{PolicySession: trial.Handle(), Pcrs: p.selection()}).Execute(t); err != nil {
		return nil, fmt.Errorf("the TPM's registers: %w", err)
	}
	policy, err := tpm2.PolicyGetDigest{PolicySession: trial.Handle()}.Execute(t)
	if err != nil {
		return nil, fmt.Errorf("the TPM's policy: %w", err)
	}
	// Only the policy opens it, and neither guesses at it nor a copy of it in another TPM.
	created, err := tpm2.Create{
		ParentHandle: parent,
		InSensitive: tpm2.TPM2BSensitiveCreate{Sensitive: &tpm2.TPMSSensitiveCreate{
			Data: tpm2.NewTPMUSensitiveCreate(&tpm2.TPM2BSensitiveData{Buffer: material})}},
		InPublic: tpm2.New2B(tpm2.TPMTPublic{Type: tpm2.TPMAlgKeyedHash, NameAlg: tpm2.TPMAlgSHA256,
			ObjectAttributes: tpm2.TPMAObject{FixedTPM: true, FixedParent: true, NoDA: true}, AuthPolicy: policy.PolicyDigest}),
	}.Execute(t, encrypted(tpm2.AESEncryption(128, tpm2.EncryptIn)))
	if err != nil {
		return nil, fmt.Errorf("the TPM sealed nothing: %w", err)
	}
	return json.Marshal(blob{Public: tpm2.Marshal(created.OutPublic), Private: tpm2.Marshal(created.OutPrivate)})
}

// Open opens what Seal gave, in the same TPM and while the registers are as they were.
func Open(where string, content json.RawMessage) ([]byte, error) {
	p, err := parse(where)
	if err != nil {
		return nil, err
	}
	var b blob
	if err := json.Unmarshal(content, &b); err != nil {
		return nil, fmt.Errorf("read what the TPM sealed: %w", err)
	}
	public, err := tpm2.Unmarshal[tpm2.TPM2BPublic](b.Public)
	if err != nil {
		return nil, fmt.Errorf("read what the TPM sealed: %w", err)
	}
	private, err := tpm2.Unmarshal[tpm2.TPM2BPrivate](b.Private)
	if err != nil {
		return nil, fmt.Errorf("read what the TPM sealed: %w", err)
	}
	t, err := p.open()
	if err != nil {
		return nil, err
	}
	defer func() { _ = t.Close() }()
	parent, done, encrypted, err := storage(t)
	if err != nil {
		return nil, err
	}
	defer done()
	loaded, err := tpm2.Load{ParentHandle: parent, InPrivate: *private, InPublic: *public}.Execute(t)
	if err != nil {
		return nil, fmt.Errorf("this TPM is not the one that it was sealed by, or the TPM was cleared: unlock by another method (%w)", err)
	}
	defer func() { _, _ = tpm2.FlushContext{FlushHandle: loaded.ObjectHandle}.Execute(t) }()
	session, close, err := tpm2.PolicySession(t, tpm2.TPMAlgSHA256, 16)
	if err != nil {
		return nil, fmt.Errorf("the TPM's policy: %w", err)
	}
	defer func() { _ = close() }()
	if _, err := (tpm2.PolicyPCR{PolicySession: session.Handle(), Pcrs: p.selection()}).Execute(t); err != nil {
		return nil, fmt.Errorf("the TPM's registers: %w", err)
	}
	unsealed, err := tpm2.Unseal{ItemHandle: tpm2.AuthHandle{Handle: loaded.ObjectHandle, Name: loaded.Name, Auth: session}}.
		Execute(t, encrypted(tpm2.AESEncryption(128, tpm2.EncryptOut)))
	if errors.Is(err, tpm2.TPMRCPolicyFail) {
		return nil, fmt.Errorf("this machine was not started as it was when the key was sealed (registers %s): unlock by another method, and "+
			"find out why before you seal it anew", numbers(p.pcrs))
	}
	if err != nil {
		return nil, fmt.Errorf("the TPM opened nothing: %w", err)
	}
	return unsealed.OutData.Buffer, nil
}

func numbers(list []uint) string {
	var texts []string
	for _, n := range list {
		texts = append(texts, strconv.FormatUint(uint64(n), 10))
	}
	return strings.Join(texts, ", ")
}
