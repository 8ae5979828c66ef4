package registry

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheHeapAsksForHugePages(t *testing.T) {
	if _, err := os.Stat("/sys/kernel/mm/transparent_hugepage"); err != nil {
		t.Skip("this system has no huge pages")
	}
	require.NoError(t, adviseHuge())
	raw, err := os.ReadFile("/proc/self/smaps")
	require.NoError(t, err)
	advised := 0
	for line := range strings.Lines(string(raw)) {
		if flags, ok := strings.CutPrefix(line, "VmFlags:"); ok && strings.Contains(flags, " hg") {
			advised++
		}
	}
	assert.Positive(t, advised, "the mapping that the heap stands in")
}

func TestAnAddressIsFoundAmongMappings(t *testing.T) {
	const maps = "00400000-00c00000 r-xp 00000000 08:01 7 /bin/x\nc000000000-c004000000 rw-p 00000000 00:00 0 \n" +
		"7f00-7f0000 ---p 00000000 00:00 0\n"
	from, to, err := mappingOf(strings.NewReader(maps), 0xc000000000)
	require.NoError(t, err)
	assert.Equal(t, []uintptr{0xc000000000, 0xc004000000}, []uintptr{from, to})
	_, _, err = mappingOf(strings.NewReader(maps), 0xc004000000)
	assert.ErrorContains(t, err, "it is in none", "the end is no part of it")
	for _, broken := range []string{"heap\n", "c000000000 rw-p\n", "c0-zz rw-p\n"} {
		_, _, err = mappingOf(strings.NewReader(broken), 1)
		assert.ErrorContains(t, err, "begins with no span")
	}
}
