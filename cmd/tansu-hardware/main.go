// Command tansu-hardware seals and opens unlock keys by a TPM or a PKCS #11 token, for tansu, over a pipe: one request on standard input,
// one answer on standard output.
package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"tansu/internal/hardware"
	"tansu/internal/hardware/token"
	"tansu/internal/hardware/tpm"
)

// most is how much a request may have.
const most = 64 << 10

func main() {
	answer, err := handle(io.LimitReader(os.Stdin, most))
	if err != nil {
		answer = hardware.Answer{Problem: err.Error()}
	}
	if json.NewEncoder(os.Stdout).Encode(answer) != nil || err != nil {
		os.Exit(1)
	}
}

func handle(in io.Reader) (answer hardware.Answer, err error) {
	var r hardware.Request
	if err := json.NewDecoder(in).Decode(&r); err != nil {
		return answer, fmt.Errorf("tansu-hardware is run by tansu, which gives it a request on standard input: %w", err)
	}
	if r.Open != nil {
		_, open, err := kind(r.Open.By)
		if err != nil {
			return answer, err
		}
		answer.Material, err = open(r.Open.By, r.Purpose, r.Open.Blob)
		return answer, err
	}
	seal, _, err := kind(r.Seal)
	if err != nil {
		return answer, err
	}
	sealed, err := seal(r.Seal, r.Purpose, r.Material)
	if err == nil {
		answer.Sealed = &hardware.Sealed{By: r.Seal, Blob: sealed}
	}
	return answer, err
}

// sealer and opener are what each kind of hardware can do.
type (
	sealer func(where, purpose string, material []byte) (json.RawMessage, error)
	opener func(where, purpose string, sealed json.RawMessage) ([]byte, error)
)

// A TPM seals for unlocking only.
func sealTPM(where, purpose string, material []byte) (json.RawMessage, error) {
	if purpose != "" {
		return nil, errors.New("a TPM seals unlock keys only: a master key is in a PKCS #11 token (pkcs11:…)")
	}
	return tpm.Seal(where, material)
}

func openTPM(where, purpose string, sealed json.RawMessage) ([]byte, error) {
	if purpose != "" {
		return nil, errors.New("a TPM opens unlock keys only: a master key is in a PKCS #11 token (pkcs11:…)")
	}
	return tpm.Open(where, sealed)
}

func kind(where string) (seal sealer, open opener, err error) {
	switch {
	case strings.HasPrefix(where, tpm.Scheme):
		return sealTPM, openTPM, nil
	case strings.HasPrefix(where, token.Scheme):
		return token.Seal, token.Open, nil
	}
	return nil, nil, fmt.Errorf("%q is neither tpm:… nor pkcs11:…", where)
}
