// Package sshlend lends SSH keys to a program for as long as it runs. It speaks the agent protocol of OpenSSH
// (draft-ietf-sshm-ssh-agent) at a socket that only this user can reach. It holds no private key: each signature asks for the
// key again, so that each use is decided anew and in the trail, and forgets it at once.
package sshlend

import (
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Key is one that is lent.
type Key struct {
	Name string // shown as its comment
	// Private returns the private key, PEM; whoever asks for it clears it. Signer is instead of it for a key that stays in the chest.
	Private func() ([]byte, error)
	Signer  func() (ssh.Signer, error)
}

// Lending is a socket at which keys are lent.
type Lending struct {
	Path     string
	listener net.Listener
	keys     []lent
	work     sync.WaitGroup
}

type lent struct {
	Key
	public ssh.PublicKey
}

// Start reads each key once, for its public half, and listens. The error names the key that cannot be lent.
func Start(keys []Key) (*Lending, error) {
	l := &Lending{}
	for _, key := range keys {
		signer, err := key.signer()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", key.Name, err)
		}
		l.keys = append(l.keys, lent{key, signer.PublicKey()})
	}
	dir, err := os.MkdirTemp("", "tansu-lent-") // mode 0700
	if err != nil {
		return nil, fmt.Errorf("make a directory for the socket: %w", err)
	}
	l.Path = filepath.Join(dir, "agent")
	if l.listener, err = net.Listen("unix", l.Path); err != nil {
		return nil, errors.Join(fmt.Errorf("listen: %w", err), os.RemoveAll(dir))
	}
	l.work.Go(l.serve)
	return l, nil
}

func (l *Lending) serve() {
	for {
		connection, err := l.listener.Accept()
		if err != nil {
			return
		}
		go func() {
			defer func() { _ = connection.Close() }()
			_ = agent.ServeAgent(lender{l}, connection) // it ends when the program hangs up
		}()
	}
}

// Close takes the socket away. What is being signed is still signed.
func (l *Lending) Close() error {
	err := l.listener.Close()
	l.work.Wait()
	return errors.Join(err, os.RemoveAll(filepath.Dir(l.Path)))
}

func (k Key) signer() (ssh.Signer, error) {
	if k.Signer != nil {
		return k.Signer()
	}
	content, err := k.Private()
	if err != nil {
		return nil, err
	}
	defer clear(content)
	signer, err := ssh.ParsePrivateKey(content)
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return nil, errors.New("the private key has a passphrase: store it without one, since the chest encrypts it")
	case err != nil:
		return nil, errors.New("the value is not a private SSH key")
	}
	return signer, nil
}

// lender is what a connection talks to.
type lender struct{ *Lending }

// List tells the public halves.
func (l lender) List() (list []*agent.Key, err error) {
	for _, key := range l.keys {
		list = append(list, &agent.Key{Format: key.public.Type(), Blob: key.public.Marshal(), Comment: key.Name})
	}
	return list, nil
}

// Sign signs with one of the keys.
func (l lender) Sign(public ssh.PublicKey, data []byte) (*ssh.Signature, error) {
	return l.SignWithFlags(public, data, 0)
}

// SignWithFlags signs with one of the keys, with the hash that is asked for.
func (l lender) SignWithFlags(public ssh.PublicKey, data []byte, flags agent.SignatureFlags) (*ssh.Signature, error) {
	for _, key := range l.keys {
		if string(key.public.Marshal()) != string(public.Marshal()) {
			continue
		}
		signer, err := key.signer()
		if err != nil {
			return nil, err
		}
		algorithm := ""
		if key.public.Type() == ssh.KeyAlgoRSA {
			algorithm = ssh.KeyAlgoRSASHA512
			if flags&agent.SignatureFlagRsaSha256 != 0 {
				algorithm = ssh.KeyAlgoRSASHA256
			}
		}
		with, is := signer.(ssh.AlgorithmSigner)
		if !is {
			return signer.Sign(rand.Reader, data)
		}
		return with.SignWithAlgorithm(rand.Reader, data, algorithm)
	}
	return nil, errors.New("no such key is lent")
}

var errNotHere = errors.New("keys come from the chest: none are added or removed here")

func (lender) Extension(string, []byte) ([]byte, error) { return nil, agent.ErrExtensionUnsupported }
func (lender) Add(agent.AddedKey) error                 { return errNotHere }
func (lender) Remove(ssh.PublicKey) error               { return errNotHere }
func (lender) RemoveAll() error                         { return errNotHere }
func (lender) Lock([]byte) error                        { return errNotHere }
func (lender) Unlock([]byte) error                      { return errNotHere }
func (lender) Signers() ([]ssh.Signer, error)           { return nil, errNotHere }
