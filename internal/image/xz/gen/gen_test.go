package main

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCommittedFileIsWhatIsGenerated(t *testing.T) {
	want, err := generate()
	require.NoError(t, err)
	got, err := os.ReadFile("../chunk.go")
	require.NoError(t, err)
	assert.Equal(t, string(want), string(got), "run go generate ./internal/image/xz")
}
