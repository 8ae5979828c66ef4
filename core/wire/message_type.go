package wire

// MessageType is the type of a message, as the JSON sub-protocol names it.
type MessageType string

// The types of messages. A client's first message is a join, and the server's a hello or a bye.
const (
	MessageJoin    MessageType = "join"    // asks for a seat
	MessageReady   MessageType = "ready"   // the client has loaded, and plays from now on
	MessageSeen    MessageType = "seen"    // the client has applied the frames up to a tick
	MessageLeave   MessageType = "leave"   // the client gives its seat back
	MessageDiffers MessageType = "differs" // the client's copy is not what the digest of a frame says
	MessageAsk     MessageType = "ask"     // a request
	MessageWrite   MessageType = "write"   // writes a property that is set by clients
	MessagePress   MessageType = "press"   // begins a hold, or renews its lease
	MessageRelease MessageType = "release" // ends a hold
	MessageLog     MessageType = "log"     // a line of the client's own log, for who watches the session

	MessageHello MessageType = "hello" // the seat that the client got
	MessageFrame MessageType = "frame" // what a tick has for the client
	MessageBye   MessageType = "bye"   // why the connection ends
)

// payload says what a message of a client carries beside its type.
type payload uint8

const (
	carriesNothing payload = iota
	carriesTick            // the tick that it is about
	carriesCall            // a number, an entity, a request or property, and values
	carriesPress           // the number of a press, an entity and a hold
	carriesText            // the tick that the client is at, and a text
	unknownPayload         // of what is no message of a client
)

// clientMessages are the messages of clients but for the join, by the number that stands for them in their binary form.
var clientMessages = [...]struct {
	typ     MessageType
	carries payload
}{
	1: {MessageReady, carriesNothing},
	2: {MessageSeen, carriesTick},
	3: {MessageLeave, carriesNothing},
	4: {MessageDiffers, carriesTick},
	5: {MessageAsk, carriesCall},
	6: {MessageWrite, carriesCall},
	7: {MessagePress, carriesPress},
	8: {MessageRelease, carriesPress},
	9: {MessageLog, carriesText},
}

// number returns the number of a client's message in its binary form; 0 when it has none.
func (t MessageType) number() byte {
	for i := range clientMessages {
		if i > 0 && clientMessages[i].typ == t {
			return byte(i)
		}
	}
	return 0
}

// carries returns what a client's message carries.
func (t MessageType) carries() payload {
	if n := t.number(); n > 0 {
		return clientMessages[n].carries
	}
	return unknownPayload
}
