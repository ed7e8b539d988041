// Package ike holds the checks of what protects the IKE SA itself.
package ike

import (
	algo "toril/ike"
)

var ikeTypes = []algo.Registry{algo.Encryption, algo.Integrity, algo.PRF, algo.KeyExchange}
