package trials

import "syscall"

// giveWay makes the goroutine's thread, to which it has to be locked, give way to others: nice is as in nice(2).
func giveWay(nice int) { _ = syscall.Setpriority(syscall.PRIO_PROCESS, syscall.Gettid(), nice) }
