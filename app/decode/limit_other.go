//go:build !unix

package decode

import "runtime/debug"

// limit bounds what this process may take, as far as the system lets it.
func limit() { debug.SetMemoryLimit(MostMemory / 2) }
