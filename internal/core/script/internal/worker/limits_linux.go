package worker

import "syscall"

// limit holds this process to what a script needs: memory beyond what its engine may keep, so that one
// allocation too much ends the process; no file written, none opened beyond a few, no picture of the
// memory left behind.
func limit() error {
	for kind, most := range map[int]uint64{
		syscall.RLIMIT_DATA:   2 * MaxMemory,
		syscall.RLIMIT_FSIZE:  0,
		syscall.RLIMIT_NOFILE: 16,
		syscall.RLIMIT_CORE:   0,
	} {
		if err := syscall.Setrlimit(kind, &syscall.Rlimit{Cur: most, Max: most}); err != nil {
			return err
		}
	}
	return syscall.Setpriority(syscall.PRIO_PROCESS, 0, nice)
}

// nice lets the program that asks go first where there is not enough of the machine for both.
const nice = 5
