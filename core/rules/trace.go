package rules

import "kamerad.example/core/bytecode"

// RunBody is a body as it ran.
type RunBody struct {
	Name string // such as `on change hull of Diver`
	File string
	Line int // of its first instruction
}

// tracedRun says which bodies ran from a place in the world's journal on.
type tracedRun struct {
	mark  int
	stack []RunBody
}

// TraceRuns has the machine note which bodies run, for RunsAt.
func (m *Machine) TraceRuns(on bool) {
	m.tracing = on
	m.runs = nil
	m.stack = nil
}

// RunsAt returns the bodies that ran when the open transaction made an entry of the world's journal, the outermost
// first; nil when none did.
func (m *Machine) RunsAt(mark int) (stack []RunBody) {
	for _, r := range m.runs {
		if r.mark > mark {
			break
		}
		stack = r.stack
	}
	return stack
}

// enterTraced notes that a body begins.
func (m *Machine) enterTraced(c *bytecode.Code) {
	body := RunBody{Name: c.Name, File: c.File}
	if len(c.Lines) > 0 {
		body.Line = int(c.Lines[0])
	}
	m.stack = append(m.stack[:len(m.stack):len(m.stack)], body)
	m.noteStack()
}

// leaveTraced notes that a body has ended.
func (m *Machine) leaveTraced() {
	m.stack = m.stack[: len(m.stack)-1 : len(m.stack)-1]
	m.noteStack()
}

// noteStack notes the bodies that run from here on.
func (m *Machine) noteStack() {
	m.runs = append(m.runs, tracedRun{m.World.JournalMark(), m.stack})
}

// ForgetRuns forgets the bodies that ran: the transaction has ended.
func (m *Machine) ForgetRuns() { m.runs = nil }
