package app

import (
	"os"
	"runtime/debug"
)

// How often memory is collected: what the program holds is little beside what each call and each record need for a moment, so that
// it is worth to collect seldom; as its memory comes near the limit, often.
const (
	garbagePercent = 300       // of what is held, before it is collected; Go's own default is 100
	memoryLimit    = 768 << 20 // bytes; a soft one
)

// CollectSeldom sets how often memory is collected, unless the environment says (GOGC, GOMEMLIMIT).
func CollectSeldom() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(garbagePercent)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
}
