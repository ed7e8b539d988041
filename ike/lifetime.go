package ike

import "math"

// BirthdayBytes returns the volume in bytes after which a cipher with this block size in bits is at the birthday bound:
// 2^(block/2) blocks. 64-bit blocks: 32 GiB; 128-bit blocks: more than anybody sends.
func BirthdayBytes(blockBits int) float64 {
	return math.Pow(2, float64(blockBits)/2) * float64(blockBits) / 8
}
