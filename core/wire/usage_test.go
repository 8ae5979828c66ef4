package wire

import (
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every bit of every frame is counted once, and each item counts what the frames say of it.
func TestUsageCountsEveryBit(t *testing.T) {
	counted := map[UsageType]int64{}
	for _, v := range readVectors(t) {
		layout := NewLayout(v.Outline)
		r := NewReader(layout)
		usage := r.CountUsage()
		items := layout.UsageItems()
		require.Len(t, usage.Amounts, len(items))
		size := int64(0)
		frames := int64(0)
		want := map[UsageItem]int64{}
		for _, f := range v.Frames {
			raw, err := hex.DecodeString(f.Hex)
			require.NoError(t, err)
			got, err := r.Read(raw)
			require.NoError(t, err)
			size += int64(len(raw)) * 8
			frames++
			for _, e := range got.Events {
				want[UsageItem{UsageEvent, e.Event}]++
			}
			want[UsageItem{UsageDecision, ""}] += int64(len(got.Decisions))
			want[UsageItem{UsageLog, ""}] += int64(len(got.Logs))
		}
		want[UsageItem{UsageFraming, ""}] = frames
		sum := int64(0)
		for i, a := range usage.Amounts {
			assert.GreaterOrEqual(t, a.Bits, int64(0), items[i])
			assert.GreaterOrEqual(t, a.Count, int64(0), items[i])
			sum += a.Bits
			counted[items[i].Type] += a.Count
			switch items[i].Type {
			case UsageEvent, UsageDecision, UsageLog, UsageFraming:
				assert.Equal(t, want[items[i]], a.Count, items[i])
			}
		}
		assert.Equal(t, size, sum)
	}
	for _, typ := range []UsageType{
		UsageProperty, UsageEntity, UsageEvent, UsageDecision, UsageRoster, UsageLog, UsageDigest, UsageFraming,
	} {
		assert.Positive(t, counted[typ], typ)
	}
}

// A value of a property that is sent costs bits of that property, and of nothing else but its frame.
func TestUsageNamesTheProperty(t *testing.T) {
	v := readVectors(t)[0]
	layout := NewLayout(v.Outline)
	r := NewReader(layout)
	usage := r.CountUsage()
	items := layout.UsageItems()
	seen := 0
	for _, f := range v.Frames {
		raw, err := hex.DecodeString(f.Hex)
		require.NoError(t, err)
		clear(usage.Amounts)
		got, err := r.Read(raw)
		require.NoError(t, err)
		if len(got.Blocks) == 0 || len(got.Blocks[0].Spawned)+len(got.Blocks[0].Owned)+len(got.Blocks[0].Gone) > 0 {
			continue
		}
		named := map[string]bool{}
		for _, u := range got.Blocks[0].Values {
			for _, f := range u.Fields {
				named[u.Kind+"."+f.Name] = true
			}
		}
		for i, a := range usage.Amounts {
			if items[i].Type == UsageProperty && a.Count > 0 {
				assert.True(t, named[items[i].Of], items[i].Of)
				assert.Positive(t, a.Bits)
				seen++
			}
		}
	}
	assert.Positive(t, seen)
}
