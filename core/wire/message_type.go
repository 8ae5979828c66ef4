package wire

import "slices"

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

	MessageHello MessageType = "hello" // the seat that the client got
	MessageFrame MessageType = "frame" // what a tick has for the client
	MessageBye   MessageType = "bye"   // why the connection ends
)

// clientMessages are the messages of clients that have a binary form, by the number that stands for them there.
var clientMessages = [...]MessageType{
	1: MessageReady,
	2: MessageSeen,
	3: MessageLeave,
	4: MessageDiffers,
	5: MessageAsk,
	6: MessageWrite,
	7: MessagePress,
	8: MessageRelease,
}

// number returns the number of a client's message in its binary form; 0 when it has none.
func (t MessageType) number() byte { return byte(max(slices.Index(clientMessages[:], t), 0)) }
