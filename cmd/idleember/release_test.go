package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a release holds is signed; another file, another list or another key is noticed by tools that everybody has.
func TestAReleaseIsSigned(t *testing.T) {
	t.Parallel()
	work := t.TempDir()
	release, keys := filepath.Join(work, "release"), filepath.Join(work, "keys")
	require.NoError(t, os.Mkdir(release, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(release, "idleember-linux-arm64"), []byte("binary"), 0o600))
	run := func(env []string, dir, name string, args ...string) (string, error) {
		cmd := exec.Command(name, args...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
		if name == "ssh-keygen" && args[0] == "-Y" {
			sums, err := os.Open(filepath.Join(release, "SHA256SUMS"))
			require.NoError(t, err)
			defer func() { _ = sums.Close() }()
			cmd.Stdin = sums
		}
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	sign := func(key string) (string, error) {
		return run([]string{"RELEASE_KEYS=" + keys, "RELEASE_KEY=" + key}, root, "./scripts/sign", release)
	}
	verify := func() error {
		_, err := run(nil, release, "ssh-keygen", "-Y", "verify", "-f", keys, "-I", "release", "-n", "idleember-release",
			"-s", "SHA256SUMS.sig")
		return err
	}
	for _, key := range []string{"mine", "theirs"} {
		out, err := run(nil, work, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key)
		require.NoError(t, err, out)
	}
	public, err := os.ReadFile(filepath.Join(work, "mine.pub"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(keys, []byte(`release namespaces="idleember-release" `+string(public)), 0o600))

	out, err := sign("")
	require.NoError(t, err, out)
	assert.Contains(t, out, "is not signed")
	assert.NoFileExists(t, filepath.Join(release, "SHA256SUMS.sig"))
	out, err = sign(filepath.Join(work, "theirs"))
	require.Error(t, err)
	assert.Contains(t, out, "is none of those in")
	assert.NoFileExists(t, filepath.Join(release, "SHA256SUMS.sig"))

	out, err = sign(filepath.Join(work, "mine"))
	require.NoError(t, err, out)
	require.NoError(t, verify())
	out, err = run(nil, release, "sha256sum", "--strict", "-c", "SHA256SUMS")
	require.NoError(t, err, out)
	assert.Equal(t, 1, strings.Count(out, "OK"))
	sums, err := os.ReadFile(filepath.Join(release, "SHA256SUMS"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(release, "SHA256SUMS"), append(sums, sums...), 0o600))
	require.Error(t, verify())
}
