package tests

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/tests/rig"
)

// push sends with curl and returns status and answer.
func push(r *rig.Rig, path string, args ...string) (status, body string) {
	out, err := r.Run("curl", append([]string{"-sS", "-m", "20", "-w", "\n%{http_code}", r.URL() + "/push/" + path},
		args...)...)
	require.NoError(r.T, err, out)
	i := strings.LastIndexByte(out, '\n')
	return out[i+1:], out[:i]
}

func TestPushInEveryForm(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.HTTP})
	sign := []string{"-u", "shed:" + key}
	cbor := filepath.Join(t.TempDir(), "pack.cbor")
	raw, err := hex.DecodeString("81a3006763757272656e74016141" + "02f93e00") // [{"n":"current","u":"A","v":1.5}]
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(cbor, raw, 0o600))
	for _, tt := range []struct {
		name, kind, body string
		id               string
		want             any
	}{
		{"JSON", "application/json", `{"temperature":21.4}`, "shed.temperature", 21.4},
		{"what curl -d sends by itself", "application/x-www-form-urlencoded", `{"humidity":60}`, "shed.humidity", 60.0},
		{"form", "application/x-www-form-urlencoded", `battery=12.6&lid=shut`, "shed.lid", "shut"},
		{"SenML", "application/senml+json", `[{"bn":"urn:dev:ow:1:","n":"voltage","u":"V","v":120.1}]`, "shed.voltage",
			120.1},
		{"SenML in CBOR", "application/senml+cbor", "@" + cbor, "shed.current", 1.5},
		{"CSV", "text/csv", "level,wet\n0.5,true\n", "shed.wet", true},
	} {
		status, body := push(r, "shed", append(sign, "-H", "Content-Type: "+tt.kind, "--data-binary", tt.body)...)
		require.Equal(t, "200", status, "%s: %s", tt.name, body)
		assert.Equal(t, tt.want, r.Value(tt.id), tt.name)
	}
	assert.Equal(t, "V", r.Signal("shed.voltage").Config.Unit, "the unit of SenML is taken over")
	assert.True(t, r.Online("shed"))
	status, body := push(r, "shed", "-H", "Authorization: Bearer "+key, "-H", "Content-Type: application/json", "-d",
		`{"temperature":21.5,"x y#":1,"fan":null}`)
	assert.Equal(t, "200", status, "something of it was taken")
	assert.Contains(t, body, `"stored":1`)
	assert.Contains(t, body, "wildcard")
	assert.Contains(t, body, "no value")
}

func TestPushRefusals(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.HTTP}, func(d rig.Fields) {
		d["limits"] = client.Limits{MaxBytes: 100, PerSecond: 1, MaxNames: 2}
	})
	other := r.Linked("kiln", client.Link{Kind: site.HTTP})
	sign := func(key string, more ...string) []string {
		return append([]string{"-u", "shed:" + key, "-H", "Content-Type: application/json"}, more...)
	}
	for _, tt := range []struct {
		name, status, why string
		args              []string
	}{
		{"no key", "401", "the password its key", []string{"-d", "{}"}},
		{"wrong key", "401", "the password its key", sign("wrong", "-d", `{"a":1}`)},
		{"another's key", "401", "the password its key", sign(other, "-d", `{"a":1}`)},
		{"another's name", "403", "not the device in the path", []string{"-u", "kiln:" + other, "-d", `{"a":1}`}},
		{"too long", "413", "100 bytes", sign(key, "-d", `{"a":"`+strings.Repeat("x", 200)+`"}`)},
		{"nothing in it", "422", "breaks off", sign(key, "-d", `{"a":`)},
		{"unknown form", "422", "media type", []string{"-u", "shed:" + key, "-H", "Content-Type: image/png", "-d", "x"}},
		{"too many names", "200", "one more than the 2 names", sign(key, "-d", `{"a":1,"b":2,"c":3}`)},
	} {
		status, body := push(r, "shed", tt.args...)
		assert.Equal(t, tt.status, status, "%s: %s", tt.name, body)
		assert.Contains(t, body, tt.why, tt.name)
	}
	status, body := "", ""
	for range 30 {
		if status, body = push(r, "shed", sign(key, "-d", `{"a":1}`)...); status == "429" {
			break
		}
	}
	assert.Equal(t, "429", status, "the limit on rate is told to the sender")
	assert.Contains(t, body, "send less often")
	r.Soon("and shown to the owner", func() bool {
		return strings.Contains(fmt.Sprint(r.Refusals("shed")), "more than 1 messages a second")
	})
}

func TestQueryStringForTheWeakest(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.HTTP})
	status, body := push(r, "shed?key="+key+"&temperature=21.4")
	assert.Equal(t, "403", status)
	assert.Contains(t, body, "allow it on the device's page")
	link := client.Link{Kind: site.HTTP, QueryKey: true}
	_, err := r.Owner.Devices().Patch(t.Context(), "shed", rig.Fields{"link": &link}, "")
	require.NoError(t, err)
	status, body = push(r, "shed?key="+key+"&temperature=21.4&is.fan=on")
	require.Equal(t, "200", status, body)
	assert.Equal(t, 21.4, r.Value("shed.temperature"))
	assert.True(t, rig.On(r.Control("shed.fan").State.Is))
	assert.NotContains(t, fmt.Sprint(r.Traffic("shed")), key, "a key is never shown")
}

func TestRepliesCarryWants(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.HTTP})
	sign := []string{"-u", "shed:" + key, "-H", "Content-Type: application/json"}
	r.AddControl("shed", "fan", client.Source{}, client.Target{On: "1", Off: "0"})
	_, body := push(r, "shed", append(sign, "-d", `{"is.fan":"off"}`)...)
	assert.Contains(t, body, `"wants":{}`)
	_, body = push(r, "shed/wants", sign...)
	rev := between(body, `"rev":"`, `"`)

	answer := make(chan string, 1)
	begun := time.Now()
	go func() {
		_, body := push(r, "shed/wants?wait=30&rev="+rev, sign...)
		answer <- body
	}()
	time.Sleep(300 * time.Millisecond)
	r.Switch("shed.fan", true)
	body = <-answer
	assert.Less(t, time.Since(begun), 10*time.Second, "the long poll ends when there is a change")
	assert.Contains(t, body, `"fan":"1"`)
	assert.Equal(t, "pending", r.Control("shed.fan").State.Phase)
	_, body = push(r, "shed", append(sign, "-d", `{"is":{"fan":true}}`)...)
	assert.Contains(t, body, `"fan":"1"`)
	assert.Equal(t, "confirmed", r.Control("shed.fan").State.Phase)
	_, body = push(r, "shed", append(sign, "-H", "Accept: text/plain", "-d", `{"temperature":1}`)...)
	assert.Contains(t, body, "fan=1\nlease=0\n", "plain lines for boards without a JSON parser")
}

func between(s, before, after string) string {
	_, rest, _ := strings.Cut(s, before)
	out, _, _ := strings.Cut(rest, after)
	return out
}

// A board that was cut off sends what it kept, with its times: each reading lies in its place, once, however often it
// comes.
func TestBacklog(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.HTTP})
	now := time.Now().Truncate(time.Second)
	csv, jsn := "t,temperature\n", "["
	for i := 300; i >= 0; i-- {
		at := now.Add(time.Duration(-i) * time.Minute)
		csv += fmt.Sprintf("%d,%d\n", at.Unix(), i)
		if i < 100 {
			jsn += fmt.Sprintf(`{"t":%d,"temperature":%d},`, at.UnixMilli(), i)
		}
	}
	jsn = strings.TrimSuffix(jsn, ",") + "]"
	for range 2 {
		status, body := push(r, "shed", "-u", "shed:"+key, "-H", "Content-Type: text/csv", "--data-binary", csv)
		require.Equal(t, "200", status, body)
		status, body = push(r, "shed", "-u", "shed:"+key, "-H", "Content-Type: application/json", "-d", jsn)
		require.Equal(t, "200", status, body)
	}
	senml := fmt.Sprintf(`[{"bn":"x:","bt":%d,"n":"temperature","v":777},{"n":"temperature","t":-60,"v":1}]`,
		now.Add(-400*time.Minute).Unix())
	status, body := push(r, "shed", "-u", "shed:"+key, "-H", "Content-Type: application/senml+json", "-d", senml)
	require.Equal(t, "200", status, body)
	got := r.History("shed.temperature")
	assert.Len(t, got, 303)
	assert.Equal(t, 250.0, got[now.Add(-250*time.Minute).UnixMilli()])
	assert.Equal(t, 777.0, got[now.Add(-400*time.Minute).UnixMilli()])
	assert.Equal(t, 0.0, r.Value("shed.temperature"), "the newest one is the live value, whatever came later")
	assert.Zero(t, r.Get("shed").State.Replaced)
	status, _ = push(r, "shed", "-u", "shed:"+key, "-H", "Content-Type: text/csv", "--data-binary",
		fmt.Sprintf("t,temperature\n%d,99\n", now.Add(-250*time.Minute).Unix()))
	assert.Equal(t, "200", status)
	assert.EqualValues(t, 1, r.Get("shed").State.Replaced, "a differing value replaces and is counted")
	assert.Equal(t, 99.0, r.History("shed.temperature")[now.Add(-250*time.Minute).UnixMilli()])
}

// What comes in one rush without times is all kept, in its order: nothing takes another's place for having come in the
// same millisecond.
func TestARushWithoutTimesIsKept(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.HTTP})
	var objects []string
	for i := range 60 {
		objects = append(objects, fmt.Sprintf(`{"weight":%d}`, i%2)) // the same value again is another reading
	}
	for _, body := range []string{"[" + strings.Join(objects, ",") + "]", `{"weight":7}`} {
		status, answer := push(r, "shed", "-u", "shed:"+key, "-H", "Content-Type: application/json", "-d", body)
		require.Equal(t, "200", status, answer)
	}
	got := r.History("shed.weight")
	require.Len(t, got, 61, "also those that lie a little ahead")
	assert.Zero(t, r.Get("shed").State.Replaced)
	for i, at := range slices.Sorted(maps.Keys(got))[:60] {
		require.Equal(t, float64(i%2), got[at], "reading %d", i)
	}
	assert.Equal(t, 7.0, r.Value("shed.weight"))
	assert.Equal(t, "live", r.Signal("shed.weight").State.Fresh)
}

// The schema of device models is served, lies in docs, and is what the shipped models keep to.
func TestModelSchema(t *testing.T) {
	r := rig.New(t)
	resp, err := http.Get(r.URL() + "/api/device-model.schema.json")
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	served, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	if os.Getenv("IDLEEMBER_WRITE") != "" {
		require.NoError(t, os.WriteFile("../docs/device-model.schema.json", served, 0o644))
	}
	kept, err := os.ReadFile("../docs/device-model.schema.json")
	require.NoError(t, err)
	assert.Equal(t, string(kept), string(served), "write it anew with IDLEEMBER_WRITE=1 go test ./tests -run ModelSchema")
	assert.Contains(t, string(served), "https://json-schema.org/draft/2020-12/schema")
	_, doc := rig.Contract(t)
	files, err := filepath.Glob("../models/*.json")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(files), 5)
	for _, file := range files {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		var v any
		require.NoError(t, json.Unmarshal(b, &v))
		assert.NoError(t, doc.Components.Schemas["Model"].Value.VisitJSON(v), file)
	}
}
