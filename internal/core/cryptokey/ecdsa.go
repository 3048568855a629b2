package cryptokey

import (
	"errors"
	"math/big"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// toFixed writes an ECDSA signature in DER as r and s, each of n bytes.
func toFixed(der []byte, n int) ([]byte, error) {
	r, s := new(big.Int), new(big.Int)
	input, inner := cryptobyte.String(der), cryptobyte.String(nil)
	if !input.ReadASN1(&inner, asn1.SEQUENCE) || !input.Empty() || !inner.ReadASN1Integer(r) || !inner.ReadASN1Integer(s) || !inner.Empty() {
		return nil, errors.New("the signature is not an ASN.1 sequence of two numbers")
	}
	fixed := make([]byte, 2*n)
	r.FillBytes(fixed[:n])
	s.FillBytes(fixed[n:])
	return fixed, nil
}

// toDER writes r and s, each of n bytes, as an ECDSA signature in DER; nil, which verifies nothing, for another length.
func toDER(fixed []byte, n int) []byte {
	if len(fixed) != 2*n {
		return nil
	}
	var b cryptobyte.Builder
	b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1BigInt(new(big.Int).SetBytes(fixed[:n]))
		b.AddASN1BigInt(new(big.Int).SetBytes(fixed[n:]))
	})
	return b.BytesOrPanic() // only a mistake in the lines above could make it panic
}
