package session

import (
	"fmt"
	"sync"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/checkpoint"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
)

// Checkpoint returns all that the session is, between two ticks: also what each client was last sent, what waits, and
// what limits and budgets have left. A session that Restore makes of it goes on to the byte as this one does. The key
// is not in it. It is not for outside: whoever can alter it has the process.
//
// format says how this program's types stand in memory: only a program with the same can read it.
func (s *Session) Checkpoint() (data []byte, format uint64, err error) {
	if s.checkpoints == nil {
		s.checkpoints, err = newCodec(s.contract, s.program, s.view.Layout())
		if err != nil {
			return nil, 0, err
		}
	}
	data, err = s.checkpoints.Write(s)
	return data, s.checkpoints.Format(), err
}

// CheckpointFormat returns the format that Restore reads.
func CheckpointFormat() uint64 { return checkpointFormat() }

// checkpointFormat is asked for when it is first needed: it goes over all types.
var checkpointFormat = sync.OnceValue(func() uint64 {
	dynamic := append(replicate.CheckpointTypes(), (*rules.Machine)(nil))
	codec, err := checkpoint.New((*Session)(nil), dynamic)
	if err != nil {
		panic(err) // a type that cannot be written, which every test would find
	}
	return codec.Format()
})

// newCodec returns the codec of sessions that run a program. What follows from the contract is not written.
func newCodec(c *contract.Contract, p *bytecode.Program, layout *wire.Layout) (*checkpoint.Codec, error) {
	dynamic := append(replicate.CheckpointTypes(), (*rules.Machine)(nil))
	return checkpoint.New((*Session)(nil), dynamic, c, p, layout)
}

// Restore makes a session of a checkpoint. The contract and the options have to be those with which the session was
// opened. The error wraps checkpoint.ErrFormat when another version of this program has written it: then the inputs
// have to be played again from the session's beginning.
func Restore(c *contract.Contract, o Options, data []byte) (*Session, error) {
	program, err := generate(c, o)
	if err != nil {
		return nil, err
	}
	codec, err := newCodec(c, program, wire.NewLayout(c.Outline()))
	if err != nil {
		return nil, err
	}
	s := &Session{checkpoints: codec}
	if err := codec.Read(data, s); err != nil {
		return nil, err
	}
	if (s.serverState != nil) != o.Trace {
		return nil, fmt.Errorf("read a checkpoint: the session was opened with other options")
	}
	s.headroom = make([]byte, o.Headroom)
	s.indexContract()
	s.machine.Rebuild(o.Key)
	s.connectMachine(o.Key)
	s.view.SetKey(o.Key)
	s.numbers.SetKey(o.Key)
	if s.serverState != nil {
		s.serverState.SetKey(o.Key)
	}
	return s, nil
}
