package trail

import (
	"crypto/sha256"
	"slices"

	"golang.org/x/mod/sumdb/tlog"
)

// Hash is a hash of the Merkle tree over the trail (RFC 9162, section 2.1, with SHA-256): entry n is leaf n-1, and what
// is hashed of it are its bytes as they were recorded.
type Hash = tlog.Hash

// LeafHash is the hash of one encoded entry: SHA-256 of a zero byte and its bytes.
func LeafHash[B string | []byte](body B) Hash {
	var small [512]byte
	return sha256.Sum256(append(append(small[:0], 0), body...))
}

// Edge is the right edge of a tree that grows: it takes no more memory for a large tree than for a small one. The zero
// Edge is the empty tree.
type Edge struct {
	Size  uint64
	whole []Hash // of the whole trees that make it up, largest first
}

// Add adds a leaf by its hash.
func (e *Edge) Add(leaf Hash) { e.addTree(leaf, 0) }

// EdgeOf is the edge of a tree whose size is the sum of whole trees with these roots, the largest first.
func EdgeOf(size uint64, roots []Hash) Edge { return Edge{Size: size, whole: roots} }

// Clone returns an edge that grows by itself.
func (e Edge) Clone() Edge { return Edge{Size: e.Size, whole: slices.Clone(e.whole)} }

// Grow adds a leaf by its hash, and appends what package tlog stores for it: that hash, and those of the whole trees that
// it completes, the smallest first.
func (e *Edge) Grow(stored []Hash, leaf Hash) []Hash {
	stored = append(stored, leaf)
	for n, last := e.Size, len(e.whole)-1; n&1 == 1; n, last = n>>1, last-1 {
		leaf = tlog.NodeHash(e.whole[last], leaf)
		e.whole, stored = e.whole[:last], append(stored, leaf)
	}
	e.whole = append(e.whole, leaf)
	e.Size++
	return stored
}

// addTree adds a whole tree of 2^height leaves, which must follow whole trees of at least that height.
func (e *Edge) addTree(root Hash, height int) {
	// Each bit that is set in the size is one whole tree; adding to it carries as adding one does.
	for n := e.Size >> height; n&1 == 1; n >>= 1 {
		last := len(e.whole) - 1
		root, e.whole = tlog.NodeHash(e.whole[last], root), e.whole[:last]
	}
	e.whole = append(e.whole, root)
	e.Size += 1 << height
}

// Root is the hash of the tree as it is now.
func (e *Edge) Root() Hash {
	if e.Size == 0 {
		return sha256.Sum256(nil)
	}
	root := e.whole[len(e.whole)-1]
	for i := len(e.whole) - 2; i >= 0; i-- {
		root = tlog.NodeHash(e.whole[i], root)
	}
	return root
}

// subtree is the root of a whole tree over some leaves, whose number is a power of two. It overwrites them.
func subtree(leaves []Hash) Hash {
	for ; len(leaves) > 1; leaves = leaves[:len(leaves)/2] {
		for i := range len(leaves) / 2 {
			leaves[i] = tlog.NodeHash(leaves[2*i], leaves[2*i+1])
		}
	}
	return leaves[0]
}
