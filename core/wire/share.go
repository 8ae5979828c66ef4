package wire

import (
	"encoding/binary"
)

// Share splits what frames consist of, so that what several of them say alike stands in one block. It returns the
// blocks and, for each frame, which of them it consists of: a copy that applies these comes to what it comes to with
// the frame's own blocks. What stands in the same frames stands in one block, so that there are as many blocks as there
// are different audiences. A frame must not say two things of one property, entity or client.
func Share(frames []*Frame) (blocks []*Block, of [][]int) {
	s := sharing{index: map[string]int{}}
	for i, f := range frames {
		for _, b := range f.Blocks {
			s.addBlock(i, b)
		}
	}
	of = make([][]int, len(frames))
	byFrames := map[string]int{} // index of the block of what stands in the same frames
	var key []byte
	for i := range s.pieces {
		p := &s.pieces[i]
		key = key[:0]
		for _, frame := range p.frames {
			key = binary.AppendUvarint(key, uint64(frame))
		}
		at, isThere := byFrames[string(key)]
		if !isThere {
			at = len(blocks)
			blocks = append(blocks, &Block{})
			byFrames[string(key)] = at
			for _, frame := range p.frames {
				of[frame] = append(of[frame], at)
			}
		}
		p.addTo(blocks[at])
	}
	return blocks, of
}

// sharing finds out which pieces stand in which frames.
type sharing struct {
	pieces []piece        // in the order in which they were found first
	index  map[string]int // of pieces, by what they say
	key    []byte         // of the piece that is looked at
}

// piece is the least that frames have in common: of what is below one is set, and of an update only a part.
type piece struct {
	frames []int // that say it, in ascending order

	joined    *Client
	spawned   *Spawn
	owned     *Owned
	update    *Update
	field     *Field // of the update; nil for what is withdrawn
	withdrawn string
	gone      uint32
	left      int
}

// pieceType begins the key of a piece.
type pieceType byte

const (
	joinedPiece pieceType = iota
	spawnedPiece
	ownedPiece
	fieldPiece
	withdrawnPiece
	gonePiece
	leftPiece
)

// addBlock adds what a block of a frame says.
func (s *sharing) addBlock(frame int, b *Block) {
	for i := range b.Joined {
		c := &b.Joined[i]
		s.begin(joinedPiece, uint64(c.Number))
		s.key = append(append(append(s.key, c.Role...), 0), c.Name...)
		s.add(frame, piece{joined: c})
	}
	for i := range b.Spawned {
		spawn := &b.Spawned[i]
		s.begin(spawnedPiece, uint64(spawn.Entity))
		s.key = binary.AppendVarint(s.key, int64(spawn.Owner))
		s.key = append(s.key, spawn.Kind...)
		s.key = appendFields(s.key, spawn.Fields)
		s.add(frame, piece{spawned: spawn})
	}
	for i := range b.Owned {
		s.begin(ownedPiece, uint64(b.Owned[i].Entity))
		s.key = binary.AppendVarint(s.key, int64(b.Owned[i].Owner))
		s.add(frame, piece{owned: &b.Owned[i]})
	}
	for i := range b.Values {
		s.addUpdate(frame, &b.Values[i])
	}
	for _, entity := range b.Gone {
		s.begin(gonePiece, uint64(entity))
		s.add(frame, piece{gone: entity})
	}
	for _, client := range b.Left {
		s.begin(leftPiece, uint64(client))
		s.add(frame, piece{left: client})
	}
}

// addUpdate adds each value of an update by itself.
func (s *sharing) addUpdate(frame int, u *Update) {
	for i := range u.Fields {
		f := &u.Fields[i]
		s.begin(fieldPiece, uint64(u.Entity))
		s.key = append(append(s.key, f.Name...), 0)
		s.key = f.appendJSON(s.key)
		s.add(frame, piece{update: u, field: f})
	}
	for _, name := range u.Withdrawn {
		s.begin(withdrawnPiece, uint64(u.Entity))
		s.key = append(s.key, name...)
		s.add(frame, piece{update: u, withdrawn: name})
	}
}

// begin begins the key of a piece.
func (s *sharing) begin(t pieceType, number uint64) {
	s.key = binary.AppendUvarint(append(s.key[:0], byte(t)), number)
}

// add adds a piece of a frame, whose key is complete.
func (s *sharing) add(frame int, p piece) {
	at, isThere := s.index[string(s.key)]
	if !isThere {
		at = len(s.pieces)
		s.index[string(s.key)] = at
		s.pieces = append(s.pieces, p)
	}
	in := &s.pieces[at].frames
	if len(*in) == 0 || (*in)[len(*in)-1] != frame {
		*in = append(*in, frame)
	}
}

// addTo adds the piece to a block. What the block says of an entity in a row stands in one update.
func (p *piece) addTo(b *Block) {
	switch {
	case p.joined != nil:
		b.Joined = append(b.Joined, *p.joined)
	case p.spawned != nil:
		b.Spawned = append(b.Spawned, *p.spawned)
	case p.owned != nil:
		b.Owned = append(b.Owned, *p.owned)
	case p.update != nil:
		n := len(b.Values)
		if n == 0 || b.Values[n-1].Entity != p.update.Entity {
			b.Values = append(b.Values, Update{Entity: p.update.Entity, Kind: p.update.Kind})
			n++
		}
		u := &b.Values[n-1]
		if p.field != nil {
			u.Fields = append(u.Fields, *p.field)
		} else {
			u.Withdrawn = append(u.Withdrawn, p.withdrawn)
		}
	case p.left != 0:
		b.Left = append(b.Left, p.left)
	default:
		b.Gone = append(b.Gone, p.gone)
	}
}
