package tests

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/jmoiron/sqlx"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/store"
	"idleember/tests/rig"
)

// By a link somebody new comes in, once; by another one a member gets a new password.
func TestInvitations(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	until := time.Now().Add(48 * time.Hour).Truncate(time.Second)
	made, err := r.Owner.AddInviteWithResponse(t.Context(), client.NewInvite{Role: ptr(client.RoleGuest), Until: &until,
		Address: ptr("http://studio.local:8480/")})
	require.NoError(t, err)
	code := made.JSON201.Code
	assert.Equal(t, "http://studio.local:8480/join#"+code, made.JSON201.Link)
	assert.Equal(t, "\x89PNG", string(made.JSON201.Qr[:4]))
	c := r.Client()
	for range 2 { // looking changes nothing
		got, err := c.OpenInviteWithResponse(t.Context(), client.OpenInviteJSONRequestBody{Code: code})
		require.NoError(t, err)
		assert.Equal(t, client.RoleGuest, got.JSON200.Role)
		assert.Equal(t, "mo", got.JSON200.By)
	}
	join := func(c *client.Remote, code, account string) error {
		_, err := c.JoinWithResponse(t.Context(), client.JoinJSONRequestBody{Code: code, Account: &account,
			Password: "another long password"})
		return err
	}
	assert.ErrorContains(t, join(c, code, "mo"), "already a member")
	assert.ErrorContains(t, join(c, code, "Big Letters"), "a small letter")
	assert.ErrorContains(t, join(c, code, "guests"), "the word for everybody")
	require.NoError(t, join(c, code, "ada"))
	me, err := c.GetSessionWithResponse(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "ada", me.JSON200.Account)
	assert.ErrorContains(t, join(r.Client(), code, "eve"), "was used, taken back or has ended")
	list, err := r.Owner.ListMembersWithResponse(t.Context())
	require.NoError(t, err)
	assert.True(t, (*list.JSON200)[1].Until.Equal(until))

	made, err = r.Owner.AddInviteWithResponse(t.Context(), client.NewInvite{Account: ptr("ada")})
	require.NoError(t, err)
	require.NoError(t, join(r.Client(), made.JSON201.Code, "eve"), "the account is the invitation's, whatever is told")
	_, err = c.GetSessionWithResponse(t.Context())
	assert.Error(t, err, "who was signed in before is not any more")
	_, err = r.Client().SignInWithResponse(t.Context(), client.SignInJSONRequestBody{Account: "ada",
		Password: "another long password"})
	assert.NoError(t, err)

	made, err = r.Owner.AddInviteWithResponse(t.Context(), client.NewInvite{Role: ptr(client.RoleOwner)})
	require.NoError(t, err)
	_, err = r.Owner.EndInviteWithResponse(t.Context(), made.JSON201.Invite.Id)
	require.NoError(t, err)
	assert.ErrorContains(t, join(r.Client(), made.JSON201.Code, "eve"), "taken back")
	_, err = r.Owner.AddInviteWithResponse(t.Context(), client.NewInvite{Role: ptr(client.RoleMember), Until: &until})
	assert.ErrorContains(t, err, "only guests have an end")
}

// A password is changed by whoever knows it; other browsers are signed out by it, or all by choice.
func TestPasswordsAndSessions(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	kim, other := r.Member("kim", client.RoleMember), r.Client()
	r.SignIn(other, "kim")
	sessions, err := kim.ListSessionsWithResponse(t.Context())
	require.NoError(t, err)
	require.Len(t, *sessions.JSON200, 2)
	assert.True(t, (*sessions.JSON200)[0].Current)
	assert.NotNil(t, (*sessions.JSON200)[0].Used)
	_, err = kim.ChangePasswordWithResponse(t.Context(), client.ChangePasswordJSONRequestBody{Old: "wrong",
		New: "a new long password"})
	assert.ErrorContains(t, err, "the password is wrong")
	_, err = kim.ChangePasswordWithResponse(t.Context(), client.ChangePasswordJSONRequestBody{Old: rig.Password,
		New: "short"})
	assert.ErrorContains(t, err, "at least 12")
	_, err = kim.ChangePasswordWithResponse(t.Context(), client.ChangePasswordJSONRequestBody{Old: rig.Password,
		New: "a new long password"})
	require.NoError(t, err)
	_, err = kim.GetSessionWithResponse(t.Context())
	assert.NoError(t, err, "who changed it stays")
	_, err = other.GetSessionWithResponse(t.Context())
	assert.Error(t, err)
	script, err := client.New(r.URL(), r.Token(kim))
	require.NoError(t, err)
	_, err = script.ChangePasswordWithResponse(t.Context(),
		client.ChangePasswordJSONRequestBody{Old: "a new long password", New: "a third long password"})
	assert.Error(t, err, "a token does not change how its member signs in")

	before, again := signedInAs(t, r.URL(), "kim", "a new long password", ""), ""
	again = signedInAs(t, r.URL(), "kim", "a new long password", before)
	status, _ := rig.JSON(t, http.DefaultClient, "GET", r.URL()+"/api/v1/session", "", "Cookie", before)
	assert.Equal(t, 401, status, "signing in anew ends the session that the browser had")
	assert.NotEqual(t, before, again)
	live := watch(t, kim)
	_, err = r.Owner.EndSessionsWithResponse(t.Context(), "kim")
	require.NoError(t, err)
	live.ended()
	_, err = kim.GetSessionWithResponse(t.Context())
	assert.Error(t, err)
	_, err = script.GetSessionWithResponse(t.Context())
	assert.NoError(t, err, "tokens stay")

	_, err = r.Owner.RemoveMemberWithResponse(t.Context(), "kim")
	require.NoError(t, err)
	_, err = script.GetSessionWithResponse(t.Context())
	assert.Error(t, err, "with the person their tokens go")
	_, err = r.Owner.RemoveMemberWithResponse(t.Context(), "mo")
	assert.ErrorContains(t, err, "last owner")
	assert.Contains(t, strings.Join(r.Journal("member kim"), "\n"), "remove kim, member>")
}

// What changes how somebody signs in takes a person, and the password given lately; no token does it, whatever it is
// for.
func TestWhoSignsInIsChangedInPerson(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	kim := r.Member("kim", client.RoleMember)
	changes := []string{"POST /members", `{"account":"eve","role":"owner","password":"three wet towels"}`,
		"PATCH /members/mo", `{"password":"three wet towels"}`, "PATCH /members/kim", `{"role":"owner"}`,
		"DELETE /members/kim", "", "POST /invites", `{"role":"owner"}`, "POST /tokens", `{"name":"x","scopes":["read"]}`,
		"PUT /backups", `{"passphrase":"one that a thief knows"}`, "PUT /backups",
		`{"elsewhere":{"via":"folder","address":"/mnt/stick"}}`}
	own := []string{"DELETE /sessions", "", "GET /sessions", "", "GET /tokens", "", "PUT /preferences", `{"theme":"dark"}`,
		"PUT /password", `{"old":"a long enough password","new":"three wet towels"}`,
		"POST /factor", `{"password":"a long enough password"}`, "DELETE /factor", `{"password":"a long enough password"}`,
		"PUT /factor", `{"code":"000000"}`, "DELETE /members/kim/sessions", "",
		"POST /session/proof", `{"password":"a long enough password"}`}
	call := func(what, body, as, by string) (int, any) {
		method, path, _ := strings.Cut(what, " ")
		status, answer := rig.JSON(t, http.DefaultClient, method, r.URL()+"/api/v1"+path, body, as, by)
		return status, answer["field"]
	}
	tokens := func() (ids []string) {
		list, err := r.Owner.ListTokensWithResponse(t.Context())
		require.NoError(t, err)
		for _, x := range *list.JSON200 {
			ids = append(ids, x.Id)
		}
		return ids
	}
	token := "Bearer " + r.Token(r.Owner)
	itself := tokens()
	require.Len(t, itself, 1)
	other := r.Token(r.Owner)
	for i := 0; i < len(changes); i += 2 {
		status, _ := call(changes[i], changes[i+1], "Authorization", token)
		assert.Equal(t, 403, status, changes[i])
	}
	for i := 0; i < len(own); i += 2 {
		status, _ := call(own[i], own[i+1], "Authorization", token)
		assert.Equal(t, 403, status, own[i])
	}
	both := tokens()
	require.Len(t, both, 2)
	another := slices.DeleteFunc(both, func(id string) bool { return id == itself[0] })
	require.Len(t, another, 1)
	status, _ := call("DELETE /tokens/"+another[0], "", "Authorization", token)
	assert.Equal(t, 403, status, "another token")
	status, _ = call("DELETE /tokens/"+itself[0], "", "Authorization", token)
	assert.Equal(t, 204, status, "itself")
	status, _ = call("GET /now", "", "Authorization", "Bearer "+other)
	assert.Equal(t, 200, status)
	status, _ = call("PUT /backups", `{"every":"day","at":"03:00"}`, "Authorization", "Bearer "+other)
	assert.Equal(t, 200, status, "when they are made")

	cookie := signedIn(t, r.URL(), "mo")
	r.Restart() // what was given before is not known any more
	for i := 0; i < len(changes); i += 2 {
		status, field := call(changes[i], changes[i+1], "Cookie", cookie)
		assert.Equal(t, 403, status, changes[i])
		assert.Equal(t, "proof", field, changes[i])
	}
	status, _ = call("PATCH /members/kim", `{"name":"Kim of the shed"}`, "Cookie", cookie)
	assert.Equal(t, 200, status, "a name opens no door")
	status, field := call("POST /session/proof", `{"password":"not this one"}`, "Cookie", cookie)
	assert.Equal(t, 400, status)
	assert.Equal(t, "password", field)
	status, _ = call("POST /session/proof", `{"password":"a long enough password"}`, "Cookie", cookie)
	assert.Equal(t, 204, status)
	status, _ = call(changes[0], changes[1], "Cookie", cookie)
	assert.Equal(t, 201, status)
	status, field = call(changes[0], changes[1], "Cookie", signedIn(t, r.URL(), "kim"))
	assert.Equal(t, 403, status)
	assert.Nil(t, field, "who may not is not asked for a password")

	for word, why := range map[string]string{"kim kim kim 1": "first that somebody", "password1234": "first that somebody",
		"123456789012": "first that somebody", "elevenchars": "at least 12"} {
		_, err := r.Owner.ChangeMemberWithResponse(t.Context(), "kim", nil, client.MemberChange{Password: &word})
		assert.ErrorContains(t, err, why, word)
	}
	_ = kim
}

// A new password ends what was signed in with the old one, tokens and walls too; they stay only where that is asked
// for.
func TestANewPasswordEndsTokensAndWalls(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	kim := r.Member("kim", client.RoleMember)
	_, err := save(kim, site.Dashboard{ID: "page", Name: "Page", Tiles: []site.Tile{}})
	require.NoError(t, err)
	wall := func() string {
		w, err := kim.AddWallWithResponse(t.Context(), "page", client.AddWallJSONRequestBody{Name: "hall"})
		require.NoError(t, err)
		return w.JSON201.Key
	}
	status := func(key string) int {
		s, _ := rig.JSON(t, http.DefaultClient, "GET", r.URL()+"/api/v1/now", "", "Authorization", "Bearer "+key)
		return s
	}
	token, key, stay := r.Token(kim), wall(), true
	_, err = kim.ChangePasswordWithResponse(t.Context(), client.ChangePasswordJSONRequestBody{Old: rig.Password,
		New: "three wet towels", Stay: &stay})
	require.NoError(t, err)
	assert.Equal(t, []int{200, 200}, []int{status(token), status(key)})
	_, err = kim.ChangePasswordWithResponse(t.Context(), client.ChangePasswordJSONRequestBody{Old: "three wet towels",
		New: "four wet towels"})
	require.NoError(t, err)
	assert.Equal(t, []int{401, 401}, []int{status(token), status(key)})
}

// The second factor (RFC 6238): asked for after the password, each code once, recovery codes once.
func TestTheSecondFactor(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	kim := r.Member("kim", client.RoleMember)
	_, err := kim.BeginFactorWithResponse(t.Context(), client.BeginFactorJSONRequestBody{Password: "wrong"})
	assert.ErrorContains(t, err, "the password is wrong")
	begun, err := kim.BeginFactorWithResponse(t.Context(), client.BeginFactorJSONRequestBody{Password: rig.Password})
	require.NoError(t, err)
	assert.Contains(t, begun.JSON201.Uri, "otpauth://totp/Rowan%20Lane%20studio:kim")
	in := func(code string) error {
		b := client.SignInJSONRequestBody{Account: "kim", Password: rig.Password}
		if code != "" {
			b.Code = &code
		}
		_, err := r.Client().SignInWithResponse(t.Context(), b)
		return err
	}
	require.NoError(t, in(""), "it is not in force before it is confirmed")
	_, err = kim.ConfirmFactorWithResponse(t.Context(), client.ConfirmFactorJSONRequestBody{Code: "000000"})
	assert.ErrorContains(t, err, "this code is not right")
	code := func(at time.Time) string {
		c, err := totp.GenerateCode(begun.JSON201.Secret, at)
		require.NoError(t, err)
		return c
	}
	used := code(time.Now().Add(-30 * time.Second)) // the phone's clock is a little behind
	got, err := kim.ConfirmFactorWithResponse(t.Context(), client.ConfirmFactorJSONRequestBody{Code: used})
	require.NoError(t, err)
	require.Len(t, got.JSON200.Recovery, 8)
	assert.ErrorContains(t, in(""), "has a second factor")
	assert.ErrorContains(t, in(used), "used before")
	now := code(time.Now())
	require.NoError(t, in(now))
	assert.ErrorContains(t, in(now), "used before")
	require.NoError(t, in(strings.ToUpper(got.JSON200.Recovery[3])))
	assert.ErrorContains(t, in(got.JSON200.Recovery[3]), "used before")
	state, err := kim.GetFactorWithResponse(t.Context())
	require.NoError(t, err)
	assert.Equal(t, client.FactorState{On: true, Recovery: 7}, *state.JSON200)
	r.Restart()
	assert.ErrorContains(t, in(now), "used before", "over restarts")
	_, err = r.Owner.ChangeMemberWithResponse(t.Context(), "kim", nil, client.MemberChange{Factor: ptr(client.False)})
	require.NoError(t, err)
	assert.NoError(t, in(""), "an owner takes it away for somebody who lost the phone")
}

// A guest for a time is one until then: signing in, session, live stream.
func TestAGuestForATime(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	until := time.Now().Add(3 * time.Second)
	_, err := r.Owner.AddMemberWithResponse(t.Context(), client.NewMember{Account: "lee", Role: client.RoleGuest,
		Password: rig.Password, Until: &until})
	require.NoError(t, err)
	lee := r.Client()
	r.SignIn(lee, "lee")
	live := watch(t, lee)
	live.ended()
	_, err = lee.GetNowWithResponse(t.Context())
	assert.ErrorContains(t, err, "sign in first")
	_, err = r.Owner.ChangeMemberWithResponse(t.Context(), "lee", nil, client.MemberChange{Endless: ptr(true)})
	require.NoError(t, err)
	r.SignIn(r.Client(), "lee")
}

// The same rights through every door.
func TestRightsThroughEveryDoor(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	place := "Kiln shed"
	made, err := r.Owner.AddDevice(t.Context(), rig.Fields{"id": ptr("kiln"), "name": "Kiln", "place": place})
	require.NoError(t, err)
	board := r.Connect("kiln", made.Key, "kiln")
	board.Publish("ember/kiln/r/chamber", 1, false, "412").Wait()
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	board.Publish("ember/kiln/is/lamp", 1, false, "off").Wait()
	r.Soon("all", func() bool { return len(r.Now().Controls) == 2 && len(r.Now().Signals) == 1 })
	kim, lee := r.Member("kim", client.RoleMember), r.Member("lee", client.RoleGuest)
	rights := func(lines ...site.Right) {
		_, err := r.Owner.Rights().Put(t.Context(), site.Rights{Lines: append([]site.Right{}, lines...)}, "")
		require.NoError(t, err)
	}
	_, err = r.Owner.Rights().Put(t.Context(), site.Rights{Lines: []site.Right{{Who: "nobody", Of: "kiln", May: "see"}}},
		"")
	assert.ErrorContains(t, err, `nobody here has the account "nobody"`)
	_, err = kim.Rights().Put(t.Context(), site.Rights{Lines: []site.Right{}}, "")
	assert.Error(t, err)
	toggle := func(c *client.Remote, id string) error {
		_, err := c.SwitchControlWithResponse(t.Context(), id, nil, client.SwitchControlJSONRequestBody{To: true})
		return err
	}
	ids := func(c *client.Remote) (out []string) {
		s := r.Snapshot(c)
		for _, x := range s.Signals {
			out = append(out, x.Config.ID)
		}
		for _, x := range s.Controls {
			out = append(out, x.Config.ID)
		}
		return append(out, s.Locked...)
	}
	script := r.Paho("token", r.Token(kim), "kims")
	_, err = r.Owner.Presets().Add(t.Context(), site.Preset{ID: "night", Name: "Night", Role: "guest",
		Actions: []site.Action{{Kind: site.DoControl, ID: "kiln.fan", To: 1}}})
	require.NoError(t, err)
	_, err = save(kim, site.Dashboard{ID: "door", Name: "Door", Tiles: []site.Tile{{ID: "a", Kind: site.TileControl,
		Of: []string{"kiln.fan"}, W: 3, H: 2}}})
	require.NoError(t, err)
	wallMade, err := kim.AddWallWithResponse(t.Context(), "door", client.NewWall{Name: "Door",
		Switches: &[]string{"kiln.fan"}})
	require.NoError(t, err)
	wall := r.Client()
	_, err = wall.OpenWallWithResponse(t.Context(), client.OpenWallJSONRequestBody{Key: &wallMade.JSON201.Key})
	require.NoError(t, err)
	require.NoError(t, toggle(wall, "kiln.fan"), "as long as who made it may")

	// Only owners switch the fan; the place is otherwise the members'.
	rights(site.Right{Who: "members", Of: "kiln.fan", May: "see"}, site.Right{Who: "lee", Of: "kiln.lamp", May: "switch"})
	assert.Equal(t, []string{"kiln.chamber", "kiln.fan", "kiln.lamp", "kiln.fan"}, ids(kim), "it is seen, and locked")
	assert.ErrorContains(t, toggle(kim, "kiln.fan"), "a member may not switch kiln.fan")
	require.NoError(t, toggle(kim, "kiln.lamp"))
	assert.Error(t, toggle(wall, "kiln.fan"), "the wall may no more than who made it")
	_, err = kim.ApplyPresetWithResponse(t.Context(), "night", client.ApplyPresetJSONRequestBody{})
	assert.Error(t, err, "nor by a preset")
	assert.Empty(t, r.Snapshot(kim).Presets)
	told := make(chan string, 1)
	require.True(t, script.Subscribe("ember/kiln/problem", 1, func(_ paho.Client, m paho.Message) {
		told <- string(m.Payload())
	}).WaitTimeout(20*time.Second))
	script.Publish("ember/kiln/ask/fan", 1, false, "on").Wait()
	assert.Contains(t, <-told, "may not switch kiln.fan")
	assert.Equal(t, []string{"kiln.lamp"}, ids(lee), "a guest to whom one lamp is open")
	require.NoError(t, toggle(lee, "kiln.lamp"))
	_, err = lee.ApplyPresetWithResponse(t.Context(), "night", client.ApplyPresetJSONRequestBody{})
	assert.Error(t, err)

	// The place is closed to members: history, words, journal and the stream know nothing of it.
	live := watch(t, kim)
	rights(site.Right{Who: "members", Of: "kiln_shed", May: "none"})
	board.Publish("ember/kiln/r/chamber", 1, false, "433").Wait()
	r.Soon("it is there", func() bool { return r.Value("kiln.chamber") == 433.0 })
	assert.Empty(t, ids(kim))
	for what, call := range map[string]func() error{
		"history": func() error {
			_, err := kim.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"kiln.chamber"}})
			return err
		},
		"say":     func() error { _, err := kim.SayWithResponse(t.Context(), &client.SayParams{About: "kiln"}); return err },
		"device":  func() error { _, err := kim.Devices().Get(t.Context(), "kiln"); return err },
		"switch":  func() error { return toggle(kim, "kiln.lamp") },
		"a wall":  func() error { return toggle(wall, "kiln.fan") },
		"a guest": func() error { return toggle(lee, "kiln.lamp") },
	} {
		assert.Error(t, call(), what)
	}
	lines, err := kim.ListJournalWithResponse(t.Context(), &client.ListJournalParams{})
	require.NoError(t, err)
	for _, e := range lines.JSON200.Entries {
		assert.False(t, strings.HasPrefix(e.Object, "kiln"), "%s %s", e.Action, e.Object)
	}
	_, err = r.Owner.AddNoteWithResponse(t.Context(), client.NewNote{Object: "kiln", Text: "glowing", At: time.Now()})
	require.NoError(t, err)
	notes, err := kim.ListNotesWithResponse(t.Context(), &client.ListNotesParams{})
	require.NoError(t, err)
	assert.NotContains(t, string(notes.Body), "glowing")
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 400})
	r.Soon("it is raised", func() bool { return len(alerts(r, r.Owner)) == 1 })
	story, err := kim.ListAlertEventsWithResponse(t.Context(), &client.ListAlertEventsParams{})
	require.NoError(t, err)
	assert.NotContains(t, string(story.Body), "Too hot")
	day, err := kim.GetDigestWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.NotContains(t, string(day.Body), "Too hot")
	live.until("site", "")
	assert.NotContains(t, live.String(), "433")
	r.Restart()
	kim = r.Client()
	r.SignIn(kim, "kim")
	assert.Empty(t, ids(kim), "over restarts")
}

// A token may what it is for, no more than its maker, until its end.
func TestTokensHaveScopesAndEnds(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	as := func(days int, scopes ...client.Scope) *client.Remote {
		b := client.AddTokenJSONRequestBody{Name: fmt.Sprint(scopes), Scopes: scopes}
		if days > 0 {
			b.Days = &days
		}
		made, err := r.Owner.AddTokenWithResponse(t.Context(), b)
		require.NoError(t, err)
		c, err := client.New(r.URL(), made.JSON201.Token)
		require.NoError(t, err)
		return c
	}
	does := func(c *client.Remote) string {
		var all []string
		for name, call := range map[string]func() error{
			"l": func() error { _, err := c.GetNowWithResponse(t.Context()); return err },
			"s": func() error {
				_, err := c.SwitchControlWithResponse(t.Context(), "kiln.fan", nil, client.SwitchControlJSONRequestBody{To: false})
				return err
			},
			"c": func() error {
				_, err := c.Places().Add(t.Context(), site.Place{Name: "Attic"})
				return err
			},
			"p": func() error {
				_, err := c.ImportReadingsWithResponse(t.Context(), client.ReadingsImport{Series: "kiln.chamber",
					Readings: []client.OneReading{{T: time.Now().UnixMilli() - 5000, V: 3.0}}})
				return err
			},
			"n": func() error {
				_, err := c.AddNoteWithResponse(t.Context(), client.NewNote{Object: "kiln", Text: "x", At: time.Now()})
				return err
			},
		} {
			if call() == nil {
				all = append(all, name)
			}
		}
		slices.Sort(all)
		return strings.Join(all, "")
	}
	assert.Equal(t, "l", does(as(0, client.ScopeRead)))
	assert.Equal(t, "lns", does(as(0, client.ScopeSwitch)))
	assert.Equal(t, "lns", does(as(30, client.ScopeRead, client.ScopeSwitch)))
	assert.Equal(t, "cl", does(as(0, client.ScopeConfigure)))
	assert.Equal(t, "p", does(as(0, client.ScopePush)))
	_, err := as(0, client.ScopeRead).AddTokenWithResponse(t.Context(), client.AddTokenJSONRequestBody{Name: "more",
		Scopes: []client.Scope{client.ScopeSwitch}})
	assert.ErrorContains(t, err, "a token cannot", "a token makes none")
	list, err := r.Owner.ListTokensWithResponse(t.Context())
	require.NoError(t, err)
	first, third := (*list.JSON200)[0], (*list.JSON200)[2]
	require.NotNil(t, first.Used)
	assert.WithinDuration(t, time.Now(), *first.Used, time.Minute)
	assert.Nil(t, first.Expires)
	assert.WithinDuration(t, time.Now().AddDate(0, 0, 30), *third.Expires, time.Hour)

	c := as(1, client.ScopeRead)
	require.NoError(t, r.Service.Close())
	db, err := sqlx.Open("sqlite", filepath.Join(r.Dir, store.File))
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE passes SET expires_ms = ? WHERE expires_ms > 0 AND kind = 'token'`,
		time.Now().Add(-time.Second).UnixMilli())
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE journal SET reason = 'nothing happened'`)
	assert.ErrorContains(t, err, "the journal cannot be changed")
	require.NoError(t, db.Close())
	r.Reopen()
	_, err = c.GetNowWithResponse(t.Context())
	assert.Error(t, err)
	list, err = r.Owner.ListTokensWithResponse(t.Context())
	require.NoError(t, err)
	assert.NotNil(t, (*list.JSON200)[0].Used, "over restarts")
}

// What was changed can be found, compared and brought back.
func TestJournalAndUndo(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	place := "Kiln shed"
	made, err := r.Owner.AddDevice(t.Context(), rig.Fields{"id": ptr("kiln"), "name": "Kiln", "place": place})
	require.NoError(t, err)
	r.Pub("kiln", made.Key, "ember/kiln/r/chamber", "20")
	r.Device("yard")
	kim := r.Member("kim", client.RoleMember)
	find := func(c *client.Remote, p client.ListJournalParams) []client.JournalEntry {
		got, err := c.ListJournalWithResponse(t.Context(), &p)
		require.NoError(t, err)
		return got.JSON200.Entries
	}
	_, err = r.Owner.Signals().Patch(t.Context(), "kiln.chamber", rig.Fields{"name": ptr("Chamber 100%"),
		"unit": ptr("Cel")}, "")
	require.NoError(t, err)
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 1200})
	err = r.Owner.Alerts().Remove(t.Context(), "hot")
	require.NoError(t, err)
	_, err = kim.AddNoteWithResponse(t.Context(), client.NewNote{Object: "yard", Text: "swept", At: time.Now()})
	require.NoError(t, err)

	assert.Len(t, find(r.Owner, client.ListJournalParams{Q: ptr("swept")}), 1)
	assert.Len(t, find(r.Owner, client.ListJournalParams{Q: ptr("100% chamber")}), 1, "signs mean themselves")
	assert.Empty(t, find(r.Owner, client.ListJournalParams{Q: ptr("' OR 1=1 --")}))
	assert.Empty(t, find(r.Owner, client.ListJournalParams{Q: ptr("s_ept")}))
	assert.Len(t, find(r.Owner, client.ListJournalParams{Actor: ptr("kim"), Q: ptr("note")}), 1)
	for _, e := range find(r.Owner, client.ListJournalParams{Place: ptr("kiln_shed")}) {
		assert.True(t, strings.HasPrefix(e.Object, "kiln"), e.Object)
	}
	assert.Empty(t, find(r.Owner, client.ListJournalParams{To: ptr(time.Now().Add(-time.Hour))}))
	assert.NotEmpty(t, find(r.Owner, client.ListJournalParams{From: ptr(time.Now().Add(-time.Hour))}))

	line := find(r.Owner, client.ListJournalParams{Object: ptr("kiln.chamber"), Q: ptr("change")})[0]
	assert.True(t, *line.Kept)
	was, err := r.Owner.GetEarlierWithResponse(t.Context(), line.Id)
	require.NoError(t, err)
	assert.Contains(t, string(was.JSON200.Before), `"name":"Chamber"`)
	assert.Contains(t, string(was.JSON200.After), `"name":"Chamber 100%"`)
	_, err = kim.RestoreEarlierWithResponse(t.Context(), line.Id)
	assert.Error(t, err)
	_, err = r.Owner.RestoreEarlierWithResponse(t.Context(), line.Id)
	require.NoError(t, err)
	assert.Equal(t, "Chamber", r.Signal("kiln.chamber").Config.Name)
	again := find(r.Owner, client.ListJournalParams{Object: ptr("kiln.chamber"), Q: ptr("change")})[0]
	require.NotEqual(t, line.Id, again.Id, "it is an edit like any other")
	_, err = r.Owner.RestoreEarlierWithResponse(t.Context(), again.Id)
	require.NoError(t, err, "and can be taken back")
	assert.Equal(t, "Chamber 100%", r.Signal("kiln.chamber").Config.Name)

	gone := find(r.Owner, client.ListJournalParams{Object: ptr("alert.hot"), Q: ptr("remove")})[0]
	_, err = r.Owner.RestoreEarlierWithResponse(t.Context(), gone.Id)
	require.NoError(t, err)
	list, err := r.Owner.Alerts().List(t.Context())
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(list), "Too hot")
	_, err = r.Owner.RestoreEarlierWithResponse(t.Context(), find(r.Owner,
		client.ListJournalParams{Q: ptr("swept")})[0].Id)
	assert.ErrorContains(t, err, "there is no earlier version")
}

// Everything that an owner can change comes back through the same door.
func TestEveryKindOfEditComesBack(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	ctx := context.Background()
	_, err := r.Owner.Controls().Patch(ctx, "kiln.fan", rig.Fields{"name": ptr("Vent")}, "")
	require.NoError(t, err)
	_, err = r.Owner.Devices().Patch(ctx, "kiln", rig.Fields{"name": ptr("The kiln")}, "")
	require.NoError(t, err)
	_, err = r.Owner.Hub().Patch(ctx, rig.Fields{"name": ptr("Studio")}, "")
	require.NoError(t, err)
	require.NoError(t, messaging(r, site.Messaging{Address: "http://studio.local"}))
	_, err = r.Owner.Rights().Put(ctx, site.Rights{Lines: []site.Right{{Who: "guests", Of: "kiln", May: "see"}}}, "")
	require.NoError(t, err)
	kim := r.Member("kim", client.RoleMember)
	for name, c := range map[string]*client.Remote{"door": r.Owner, "secret": kim} {
		for _, text := range []string{"first", "second"} {
			_, err := save(c, site.Dashboard{ID: name, Name: name, Tiles: []site.Tile{{ID: "a", Kind: "text", Text: text, W: 2,
				H: 1}}})
			require.NoError(t, err)
		}
	}
	_, err = r.Owner.Places().Save(ctx, site.Place{ID: "studio", Name: "Big studio",
		Facts: []site.Fact{{Name: "built", Text: "1974"}}})
	require.NoError(t, err)
	for _, about := range []string{"first", "second"} {
		_, err = r.Owner.SaveAsModelWithResponse(ctx, "kiln", client.SaveAsModelJSONRequestBody{Name: "Kiln board",
			About: &about, Replace: ptr(true)})
		require.NoError(t, err)
	}
	err = r.Owner.Models().Remove(ctx, "kiln_board")
	require.NoError(t, err)
	var entries []client.JournalEntry
	for _, word := range []string{"change", "remove"} {
		got, err := r.Owner.ListJournalWithResponse(ctx, &client.ListJournalParams{Q: &word})
		require.NoError(t, err)
		entries = append(entries, got.JSON200.Entries...)
	}
	n := 0
	for _, e := range entries {
		if e.Kept != nil && *e.Kept {
			_, err := r.Owner.RestoreEarlierWithResponse(ctx, e.Id)
			if e.Object == "dashboard.secret" {
				assert.ErrorContains(t, err, "no earlier version", "what a member keeps to themselves")
				continue
			}
			assert.NoError(t, err, e.Object)
			n++
		}
	}
	assert.Equal(t, 9, n)
	model, err := r.Owner.Models().Get(ctx, "kiln_board")
	require.NoError(t, err)
	assert.Equal(t, "second", model.Config.About, "it was taken away last, and is back")
	place, _ := r.Service.Hub.Site().Place("studio")
	assert.Equal(t, "Studio", place.Name)
	assert.Empty(t, place.Facts)
	door, err := r.Owner.Dashboards().Get(ctx, "door")
	require.NoError(t, err)
	assert.Equal(t, "first", door.Config.Tiles[0].Text)
	assert.Equal(t, "Fan", r.Control("kiln.fan").Config.Name)
	assert.Equal(t, "kiln", strings.ToLower(r.Get("kiln").Config.Name))
	assert.Equal(t, "Rowan Lane studio", r.Now().Hub.Name)
	lines, err := r.Owner.Rights().Get(ctx)
	require.NoError(t, err)
	assert.Empty(t, lines.Config.Lines)
}
