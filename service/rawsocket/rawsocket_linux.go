package rawsocket

import (
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Own takes a connection over: it returns a file descriptor of its own, closes conn, and reports true. It reports false
// for what is no TCP connection, which stays as it is.
func Own(conn net.Conn) (fd int, ok bool) {
	tcp, isTCP := conn.(*net.TCPConn)
	if !isTCP {
		return -1, false
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return -1, false
	}
	fd = -1
	_ = raw.Control(func(shared uintptr) {
		own, _, errno := syscall.Syscall(syscall.SYS_FCNTL, shared, syscall.F_DUPFD_CLOEXEC, 0)
		if errno == 0 {
			fd = int(own)
		}
	})
	if fd < 0 {
		return -1, false
	}
	_ = tcp.Close() // Go's runtime need not look after it any more
	return fd, true
}

// Close closes a socket. Nobody may be reading or writing it: its number may come to mean another socket at once.
func Close(fd int) { _ = syscall.Close(fd) }

// TryWrite writes as much as the socket takes at once, and returns how much that was.
//
// The system call cannot wait, since Go's sockets never do, so Go's scheduler is not told of it.
func TryWrite(fd int, b []byte) (n int, err error) {
	for n < len(b) {
		wrote, _, errno := syscall.RawSyscall6(
			syscall.SYS_SENDTO, uintptr(fd), uintptr(unsafe.Pointer(&b[n])), uintptr(len(b)-n),
			syscall.MSG_DONTWAIT|syscall.MSG_NOSIGNAL, 0, 0,
		)
		switch {
		case errno == 0 && wrote > 0:
			n += int(wrote)
		case errno == syscall.EINTR:
		case errno == syscall.EAGAIN:
			return n, nil
		default:
			return n, errno
		}
	}
	return n, nil
}

// TryRead reads what has come into b. The error is ErrAgain when nothing has, and io.EOF at the end.
func TryRead(fd int, b []byte) (int, error) {
	for {
		n, _, errno := syscall.RawSyscall6(
			syscall.SYS_RECVFROM, uintptr(fd), uintptr(unsafe.Pointer(&b[0])), uintptr(len(b)),
			syscall.MSG_DONTWAIT, 0, 0,
		)
		switch {
		case errno == syscall.EINTR:
		case errno == syscall.EAGAIN:
			return 0, ErrAgain
		case errno != 0:
			return 0, fmt.Errorf("read from the socket: %w", errno)
		case n == 0:
			return 0, io.EOF
		default:
			return int(n), nil
		}
	}
}

// LimitUnsent makes the system take no more than so many bytes beyond what it has sent, and returns the least round
// trip that it has measured; 0 when it does not tell.
func LimitUnsent(fd, bytes int) (roundTrip time.Duration) {
	_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_NOTSENT_LOWAT, bytes) // without it, the system takes more
	info, err := unix.GetsockoptTCPInfo(fd, unix.IPPROTO_TCP, unix.TCP_INFO)
	if err != nil {
		return 0
	}
	return time.Duration(info.Min_rtt) * time.Microsecond
}

// Poller reports which of many sockets have something to read. Its zero value is ready. It is used by one goroutine.
type Poller struct {
	open   bool
	epoll  int
	events []syscall.EpollEvent
}

// maxEvents is how many events one call of the system returns.
const maxEvents = 512

// Add makes Poll return a socket's arrivals from now on, each once, in their order. A socket that is closed is
// forgotten by itself.
func (p *Poller) Add(fd int) error {
	if !p.open {
		epoll, err := syscall.EpollCreate1(syscall.EPOLL_CLOEXEC)
		if err != nil {
			return os.NewSyscallError("epoll_create1", err)
		}
		p.open = true
		p.epoll = epoll
		p.events = make([]syscall.EpollEvent, maxEvents)
	}
	const edgeTriggered = 1 << 31
	event := &syscall.EpollEvent{Events: syscall.EPOLLIN | syscall.EPOLLRDHUP | edgeTriggered, Fd: int32(fd)}
	return os.NewSyscallError("epoll_ctl", syscall.EpollCtl(p.epoll, syscall.EPOLL_CTL_ADD, fd, event))
}

// Poll calls f for the sockets to which something has come since it was called last. It does not wait.
func (p *Poller) Poll(f func(e Event)) {
	for p.open {
		n, err := syscall.EpollWait(p.epoll, p.events, 0)
		if err != nil || n <= 0 {
			return
		}
		for _, event := range p.events[:n] {
			closed := event.Events&(syscall.EPOLLRDHUP|syscall.EPOLLHUP|syscall.EPOLLERR) != 0
			f(Event{FD: int(event.Fd), Closed: closed})
		}
		if n < len(p.events) {
			return
		}
	}
}

// Close ends the poller. The sockets stay open.
func (p *Poller) Close() {
	if p.open {
		p.open = false
		_ = syscall.Close(p.epoll)
	}
}
