package decode

import (
	"runtime/debug"
	"syscall"
)

// limit bounds what this process may take.
func limit() {
	debug.SetMemoryLimit(MostMemory / 2)
	syscall.Setrlimit(syscall.RLIMIT_DATA, &syscall.Rlimit{Cur: MostMemory, Max: MostMemory})
	syscall.Setrlimit(syscall.RLIMIT_CPU, &syscall.Rlimit{Cur: MostCPU, Max: MostCPU})
	syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{})
}
