package session

// Observer is told what a run of a session does, in its order, by whoever plays it. It may read the session until the
// next call, and must not change it.
type Observer interface {
	Began(s *Session)
	Joined(client int)
	Left(client int)
	// Arrived says that a client has applied a frame.
	Arrived(client int, tick int64)
	// Ticked says what a tick did, once the frames that arrive in it have.
	Ticked(step *Step)
}
