package main

import (
	"context"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/labstack/echo/v5"

	"tansu/client"
)

// keyCall is a call that uses a key, and how many uses are in it.
type keyCall struct {
	name, item string
	uses       int
	use        client.KeyUse
}

// keyUses measures signatures and encryptions in the chest against the bare handler, which does nothing but answer. Each use must have
// an entry afterwards.
func keyUses(result map[string]any) error {
	b, err := newBench()
	if err != nil {
		return err
	}
	defer b.stop()
	ctx := context.Background()
	for name, kind := range map[string]string{"signs": "ed25519", "seals": "aes-256", "old": "rsa-2048"} {
		item := client.NewItem{Name: name, Key: &client.NewKeyFacts{Type: kind}}
		if _, err := b.auditor.CreateItem(ctx, "ticketing-prod", item); err != nil {
			return err
		}
	}
	before, err := b.entries()
	if err != nil {
		return err
	}
	kilobyte := make([]byte, 1<<10)
	used := 0
	for _, call := range []keyCall{
		{"sign_ed25519", "signs", 1, client.KeyUse{Op: "sign", Message: []byte("line 4, car deck, 07:10")}},
		{"encrypt_1k", "seals", 1, client.KeyUse{Op: "encrypt", Message: kilobyte}},
		{"batch100_encrypts", "seals", 100, client.KeyUse{Op: "encrypt", Message: kilobyte}},
		{"sign_rsa2048", "old", 1, client.KeyUse{Op: "sign", Message: []byte("line 4, car deck, 07:10")}},
	} {
		done, err := b.keyCall(result, call)
		if err != nil {
			return err
		}
		used += done
	}
	after, err := b.entries()
	if err != nil {
		return err
	}
	fmt.Printf("\n%d uses were counted, %d entries are in the trail for them.\n", used, after-before)
	if int(after-before) < used {
		return errors.New("there are uses without an entry")
	}
	return nil
}

// bareUse is the cryptography of a use by itself: no token, no decision, no trail.
func bareUse() echo.HandlerFunc {
	_, signing, _ := ed25519.GenerateKey(rand.Reader)
	old, _ := rsa.GenerateKey(rand.Reader, 2048)
	block, _ := aes.NewCipher(make([]byte, 32))
	aead, _ := cipher.NewGCMWithRandomNonce(block)
	return func(c *echo.Context) error {
		var body client.KeyUses
		if err := json.NewDecoder(c.Request().Body).Decode(&body); err != nil {
			return err
		}
		answer := client.KeyResults{Results: make([]client.KeyResult, len(body.Uses))}
		for i, u := range body.Uses {
			switch {
			case u.Op == "encrypt":
				answer.Results[i].JWE = base64.RawURLEncoding.EncodeToString(aead.Seal(nil, nil, u.Message, nil))
			case c.Param("item") == "old":
				digest := sha256.Sum256(u.Message)
				answer.Results[i].Signature, _ = rsa.SignPSS(rand.Reader, old, crypto.SHA256, digest[:], nil)
			default:
				answer.Results[i].Signature = ed25519.Sign(signing, u.Message)
			}
		}
		return c.JSON(http.StatusOK, answer)
	}
}

// keyCall measures one call in alternation with the bare handler, at 64 connections, and returns how many uses there were. The bare handler
// does the same cryptography, one use in each call, and by the side nothing but answer.
func (b *bench) keyCall(result map[string]any, call keyCall) (used int, err error) {
	uses := make([]client.KeyUse, call.uses)
	for i := range uses {
		uses[i] = call.use
	}
	body, err := json.Marshal(client.KeyUses{Uses: uses})
	if err != nil {
		return 0, err
	}
	headers, err := os.ReadFile(filepath.Join(b.dir, "headers.lua"))
	if err != nil {
		return 0, err
	}
	file := filepath.Join(b.dir, call.name+".json")
	if err := os.WriteFile(file, body, 0o600); err != nil {
		return 0, err
	}
	single, err := json.Marshal(client.KeyUses{Uses: uses[:1]})
	if err != nil {
		return 0, err
	}
	one := filepath.Join(b.dir, call.name+"-one.json")
	if err := os.WriteFile(one, single, 0o600); err != nil {
		return 0, err
	}
	script := strings.Join([]string{string(headers), `wrk.method = "POST"`, `wrk.headers["Content-Type"] = "application/json"`,
		fmt.Sprintf(`wrk.body = io.open(%q):read("*a")`, file), ""}, "\n")
	if err := os.WriteFile(filepath.Join(b.dir, call.name+".lua"), []byte(script), 0o600); err != nil {
		return 0, err
	}
	if err := os.WriteFile(filepath.Join(b.dir, call.name+"-one.lua"), []byte(strings.ReplaceAll(script, file, one)), 0o600); err != nil {
		return 0, err
	}
	path := "/api/keys/ticketing-prod/" + call.item + "/use"
	var in, plain, silent []measurement
	for range *rounds {
		m, err := b.wrkWith(call.name+".lua", theService, path, 64)
		if err != nil {
			return 0, err
		}
		in, used = append(in, m), used+m.requests*call.uses
		if m, err = b.wrkWith(call.name+"-one.lua", bareHandler, path, 64); err != nil {
			return 0, err
		}
		plain = append(plain, m)
		if m, err = b.wrk(bareHandler, 64); err != nil {
			return 0, err
		}
		silent = append(silent, m)
	}
	m, p := median(in), median(plain)
	n := float64(call.uses)
	result[call.name+"_over_answering"] = round(m.rate * n / median(silent).rate)
	result[call.name+"_over_bare"], result[call.name+"_per_second"] = round(m.rate*n/p.rate), round(m.rate*n)
	result[call.name+"_cpu_us"] = round(micros(m.cpu) / n)
	fmt.Printf("%-20s %10.0f uses/s, %.2f times those of a bare handler, %.2f times what one answers that does nothing; %.1f us of CPU each\n",
		call.name, m.rate*n, m.rate*n/p.rate, m.rate*n/median(silent).rate, micros(m.cpu)/n)
	return used, nil
}
