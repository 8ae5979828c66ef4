package replicate

import (
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// Notice is one thing that a frame did to a copy. Which of its fields are set depends on its type.
type Notice struct {
	Type     NoticeType
	Client   wire.Client     // of ClientJoined and ClientLeft
	Entity   *Entity         // of all others; of EventReceived the entity that the event is of, nil for none
	Field    wire.Field      // of FieldChanged the new value, of FieldLost the last one
	Old      *contract.Value // of FieldChanged the value before, nil when the client had none
	OldOwner int             // of OwnerChanged
	Event    *wire.Event     // of EventReceived
}

// NoticeType says what a notice tells.
type NoticeType string

// The types of notices.
const (
	ClientJoined  NoticeType = "joined"
	ClientLeft    NoticeType = "left"
	EntitySpawned NoticeType = "spawned" // also when the client only now comes to know of it
	EntityGone    NoticeType = "gone"    // also when the client may no longer know of it
	OwnerChanged  NoticeType = "given"
	BecameMine    NoticeType = "mine" // the copy's own client is the owner from now on
	FieldChanged  NoticeType = "changed"
	FieldLost     NoticeType = "lost" // the client may no longer have the property
	EventReceived NoticeType = "heard"
)

// NoticeTypes returns all types of notices.
func NoticeTypes() []NoticeType {
	return []NoticeType{
		ClientJoined, ClientLeft, EntitySpawned, EntityGone, OwnerChanged, BecameMine,
		FieldChanged, FieldLost, EventReceived,
	}
}
