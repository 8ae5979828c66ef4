package session

// RefusalCode says for programs why a client was not seated.
type RefusalCode string

// The codes of refusals.
const (
	NameUnfit    RefusalCode = "name_unfit"    // the name is too long, cannot be shown, or is none
	NameTaken    RefusalCode = "name_taken"    // somebody in the session has the name, or one that looks like it
	LogicTaken   RefusalCode = "logic_taken"   // the session has its logic process
	RoleUnknown  RefusalCode = "role_unknown"  // the contract has no such role
	SeatsTaken   RefusalCode = "seats_taken"   // there is no free seat
	Expelled     RefusalCode = "expelled"      // who has the name was expelled a short while ago
	MemorySpent  RefusalCode = "memory_spent"  // the session has no memory left for another client
	NumbersSpent RefusalCode = "numbers_spent" // the session has had as many clients as can be numbered
)

// Refusal is the error of a client that was not seated.
type Refusal struct {
	Code   RefusalCode
	Detail string
}

// Error says why the client is not seated.
func (r *Refusal) Error() string { return "join: " + r.Detail }
