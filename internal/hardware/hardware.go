// Package hardware keeps an unlock key where it cannot be copied from: sealed by a TPM 2.0 (TCG, TPM 2.0 Library Specification) to one
// machine and its state, or by a key in a PKCS #11 token (OASIS, PKCS #11 3.0). A file holds what the hardware gave, which opens nothing
// without it. What talks to hardware is a helper program on a pipe, so that this program stays static and a token's library, which
// anybody may have written, has no place in the memory of the service.
package hardware

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"tansu/internal/core/secretvalue"
)

// Helper is the name of the helper program, which lies beside this one.
const Helper = "tansu-hardware"

// patience is how long hardware may take.
const patience = 30 * time.Second

// Sealed is the content of a sealed key file.
type Sealed struct {
	By   string          `json:"sealed_by"` // where the key is: tpm:… or pkcs11:… (RFC 7512)
	Blob json.RawMessage `json:"blob"`      // what the hardware gave
}

// Request is what the helper reads from its standard input: to seal material, or to open what is sealed.
type Request struct {
	Seal     string  `json:"seal,omitempty"` // by this hardware
	Material []byte  `json:"material,omitempty"`
	Open     *Sealed `json:"open,omitempty"`
	Purpose  string  `json:"purpose,omitempty"` // what a token seals it for; empty for unlocking the chest
}

// Answer is what the helper writes to its standard output.
type Answer struct {
	Sealed   *Sealed `json:"sealed,omitempty"`
	Material []byte  `json:"material,omitempty"`
	Problem  string  `json:"problem,omitempty"`
}

// IsSealed reports whether the content of a key file is sealed.
func IsSealed(content []byte) bool {
	var sealed Sealed
	return json.Unmarshal(content, &sealed) == nil && sealed.By != ""
}

// Seal has hardware seal some material, and gives the content of a file that opens with it.
func Seal(by string, material secretvalue.Value) ([]byte, error) {
	answer, err := ask(Request{Seal: by, Material: material.Reveal()})
	if err != nil {
		return nil, err
	}
	if answer.Sealed == nil {
		return nil, errors.New("the hardware sealed nothing")
	}
	content, err := json.Marshal(answer.Sealed)
	return append(content, '\n'), err
}

// Open has hardware open the content of a sealed file.
func Open(content []byte) (secretvalue.Value, error) {
	var sealed Sealed
	if err := json.Unmarshal(content, &sealed); err != nil {
		return secretvalue.Value{}, fmt.Errorf("read the sealed key file: %w", err)
	}
	answer, err := ask(Request{Open: &sealed})
	if err != nil {
		return secretvalue.Value{}, err
	}
	return secretvalue.New(answer.Material), nil
}

// SealBlob has a token seal some material for a purpose, and gives what opens with it: by the same key, for the same purpose.
func SealBlob(by, purpose string, material secretvalue.Value) ([]byte, error) {
	answer, err := ask(Request{Seal: by, Material: material.Reveal(), Purpose: purpose})
	if err != nil {
		return nil, err
	}
	if answer.Sealed == nil {
		return nil, errors.New("the hardware sealed nothing")
	}
	return answer.Sealed.Blob, nil
}

// OpenBlob has a token open what SealBlob gave.
func OpenBlob(by, purpose string, blob []byte) (secretvalue.Value, error) {
	answer, err := ask(Request{Open: &Sealed{By: by, Blob: blob}, Purpose: purpose})
	return secretvalue.New(answer.Material), err
}

// ask runs the helper, which must be the one that was installed with this program.
func ask(r Request) (answer Answer, err error) {
	self, err := os.Executable()
	if err != nil {
		return answer, fmt.Errorf("find %s: %w", Helper, err)
	}
	if self, err = filepath.EvalSymlinks(self); err != nil {
		return answer, fmt.Errorf("find %s: %w", Helper, err)
	}
	helper := filepath.Join(filepath.Dir(self), Helper)
	info, err := os.Stat(helper)
	if errors.Is(err, os.ErrNotExist) {
		return answer, fmt.Errorf("%s is missing: it is built together with tansu, and belongs beside it", helper)
	}
	if err != nil {
		return answer, fmt.Errorf("find %s: %w", Helper, err)
	}
	if info.Mode().Perm()&0o022 != 0 {
		return answer, fmt.Errorf("%s can be changed by others: run chmod go-w %s", helper, helper)
	}
	request, err := json.Marshal(r)
	if err != nil {
		return answer, err
	}
	defer clear(request)
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	var out, talk bytes.Buffer
	c := exec.CommandContext(ctx, helper)
	c.Stdin, c.Stdout, c.Stderr = bytes.NewReader(request), &out, &talk
	ended := c.Run()
	defer clear(out.Bytes())
	if err := json.Unmarshal(out.Bytes(), &answer); err != nil {
		return answer, fmt.Errorf("%s did not answer: %w: %s", Helper, errors.Join(ended, ctx.Err()), bytes.TrimSpace(talk.Bytes()))
	}
	if answer.Problem != "" {
		return answer, errors.New(answer.Problem)
	}
	return answer, nil
}
