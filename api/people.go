package api

import (
	"context"
	"strings"
	"time"

	"idleember/archive"
	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/picture"
	"idleember/household"
	"idleember/store"
)

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func unix(ms int64) *time.Time {
	if ms == 0 {
		return nil
	}
	return moment(time.UnixMilli(ms))
}

func token(x household.Token) Token {
	out := Token{Id: x.ID, Name: x.Name, Created: x.Created, Expires: moment(x.Expires), Used: moment(x.Used)}
	if x.Scopes != nil {
		list := each(x.Scopes, func(s string) Scope { return Scope(s) })
		out.Scopes = &list
	}
	return out
}

func (h *handlers) ListTokens(ctx context.Context, _ ListTokensRequestObject) (ListTokensResponseObject, error) {
	list, err := h.s.people.Tokens(ctx, actor(ctx))
	return ListTokens200JSONResponse(each(list, token)), err
}

func (h *handlers) AddToken(ctx context.Context, r AddTokenRequestObject) (AddTokenResponseObject, error) {
	days := 0
	set(&days, r.Body.Days)
	key, x, err := h.s.people.NewToken(ctx, actor(ctx), r.Body.Name, each(r.Body.Scopes,
		func(s Scope) string { return string(s) }), time.Duration(days)*24*time.Hour)
	return AddToken201JSONResponse{Id: x.ID, Name: x.Name, Token: key}, err
}

func (h *handlers) ListSessions(ctx context.Context, _ ListSessionsRequestObject) (ListSessionsResponseObject, error) {
	a := actor(ctx)
	list, err := h.s.people.Sessions(ctx, a)
	return ListSessions200JSONResponse(each(list, func(x household.Token) Session {
		return Session{Id: x.ID, From: x.Name, Created: x.Created, Used: moment(x.Used), Current: x.ID == a.Pass}
	})), err
}

func (h *handlers) SignOutEverywhere(ctx context.Context,
	_ SignOutEverywhereRequestObject) (SignOutEverywhereResponseObject, error) {
	a := actor(ctx)
	return SignOutEverywhere204Response{Headers: SignOutEverywhere204ResponseHeaders{SetCookie: cookie(ctx, "", 0)}},
		h.s.people.SignOutEverywhere(ctx, a, a.ID)
}

func (h *handlers) EndSessions(ctx context.Context, r EndSessionsRequestObject) (EndSessionsResponseObject, error) {
	return EndSessions204Response{}, h.s.people.SignOutEverywhere(ctx, actor(ctx), r.Account)
}

func (h *handlers) ChangePassword(ctx context.Context, r ChangePasswordRequestObject) (ChangePasswordResponseObject,
	error) {
	stay := false
	set(&stay, r.Body.Stay)
	return ChangePassword204Response{}, h.s.people.ChangePassword(ctx, actor(ctx), r.Body.Old, r.Body.New, stay)
}

func (h *handlers) Prove(ctx context.Context, r ProveRequestObject) (ProveResponseObject, error) {
	return Prove204Response{}, h.s.people.Prove(ctx, actor(ctx), r.Body.Password)
}

func (h *handlers) GetFactor(ctx context.Context, _ GetFactorRequestObject) (GetFactorResponseObject, error) {
	on, left, err := h.s.people.FactorState(ctx, actor(ctx))
	return GetFactor200JSONResponse{On: on, Recovery: left}, err
}

const qrSize = 320 // pixels

func (h *handlers) BeginFactor(ctx context.Context, r BeginFactorRequestObject) (BeginFactorResponseObject, error) {
	f, err := h.s.people.BeginFactor(ctx, actor(ctx), r.Body.Password)
	if err != nil {
		return nil, err
	}
	qr, err := picture.QR(f.URI, qrSize)
	return BeginFactor201JSONResponse{Secret: f.Secret, Uri: f.URI, Qr: qr}, err
}

func (h *handlers) ConfirmFactor(ctx context.Context, r ConfirmFactorRequestObject) (ConfirmFactorResponseObject,
	error) {
	codes, err := h.s.people.ConfirmFactor(ctx, actor(ctx), r.Body.Code)
	return ConfirmFactor200JSONResponse{Recovery: codes}, err
}

func (h *handlers) EndFactor(ctx context.Context, r EndFactorRequestObject) (EndFactorResponseObject, error) {
	return EndFactor204Response{}, h.s.people.EndFactor(ctx, actor(ctx), r.Body.Password)
}

func invite(x store.Invite) Invite {
	return Invite{Id: x.ID, Account: text(x.Account), Name: x.Name, Role: Role(x.Role), Until: unix(x.Until),
		Created: time.UnixMilli(x.Created), Expires: time.UnixMilli(x.Expires), By: x.By}
}

func (h *handlers) ListInvites(ctx context.Context, _ ListInvitesRequestObject) (ListInvitesResponseObject, error) {
	list, err := h.s.people.Invites(ctx, actor(ctx))
	return ListInvites200JSONResponse(each(list, invite)), err
}

func (h *handlers) AddInvite(ctx context.Context, r AddInviteRequestObject) (AddInviteResponseObject, error) {
	b := r.Body
	n := household.NewInvite{Role: access.Member}
	set(&n.Account, b.Account)
	set(&n.Name, b.Name)
	set(&n.Until, b.Until)
	if b.Role != nil {
		n.Role = access.Role(*b.Role)
	}
	if b.Hours != nil {
		n.Life = time.Duration(*b.Hours) * time.Hour
	}
	address := h.s.hub.Site().Messaging.Address
	set(&address, b.Address)
	code, x, err := h.s.people.Invite(ctx, actor(ctx), n)
	if err != nil {
		return nil, err
	}
	link := strings.TrimRight(address, "/") + "/join#" + code
	qr, err := picture.QR(link, qrSize)
	return AddInvite201JSONResponse{Invite: invite(x), Code: code, Link: link, Qr: qr}, err
}

func (h *handlers) EndInvite(ctx context.Context, r EndInviteRequestObject) (EndInviteResponseObject, error) {
	return EndInvite204Response{}, h.s.people.TakeBackInvite(ctx, actor(ctx), r.Id)
}

func (h *handlers) OpenInvite(ctx context.Context, r OpenInviteRequestObject) (OpenInviteResponseObject, error) {
	v, err := h.s.people.Invited(ctx, r.Body.Code, from(ctx))
	return OpenInvite200JSONResponse{Hub: v.Hub, Account: text(v.Account), Name: v.Name, Role: Role(v.Role), By: v.By,
		Until: moment(v.Until), Expires: v.Expires}, err
}

func (h *handlers) Join(ctx context.Context, r JoinRequestObject) (JoinResponseObject, error) {
	n := household.NewMember{Password: r.Body.Password}
	set(&n.Account, r.Body.Account)
	set(&n.Name, r.Body.Name)
	account, err := h.s.people.Join(ctx, r.Body.Code, from(ctx), n)
	if err != nil {
		return nil, err
	}
	in, err := h.signIn(ctx, account, r.Body.Password, "")
	return Join201JSONResponse{in}, err
}

// memberVersion is of what an owner changes: not of the password, whose hash is nobody's business, nor of when somebody
// was here.
func memberVersion(m store.Member) string {
	m.Password, m.Factor, m.Recovery, m.Step, m.Seen = "", "", "", 0, 0
	return shown.Version(m)
}

func (h *handlers) member(m store.Member) Member {
	factor := m.Factor != ""
	return Member{Account: m.ID, Name: m.Name, Role: Role(m.Role), Created: time.UnixMilli(m.Created), Locked: m.Disabled,
		Version: memberVersion(m), Until: unix(m.Until), Seen: moment(h.s.people.SeenAt(m)), Factor: &factor}
}

func (h *handlers) ListMembers(ctx context.Context, _ ListMembersRequestObject) (ListMembersResponseObject, error) {
	list, err := h.s.people.Members(ctx, actor(ctx))
	return ListMembers200JSONResponse(each(list, h.member)), err
}

func (h *handlers) AddMember(ctx context.Context, r AddMemberRequestObject) (AddMemberResponseObject, error) {
	n := household.NewMember{Account: r.Body.Account, Role: access.Role(r.Body.Role), Password: r.Body.Password}
	set(&n.Name, r.Body.Name)
	set(&n.Until, r.Body.Until)
	m, err := h.s.people.AddMember(ctx, actor(ctx), n)
	return AddMember201JSONResponse(h.member(m)), err
}

func (h *handlers) ChangeMember(ctx context.Context, r ChangeMemberRequestObject) (ChangeMemberResponseObject, error) {
	b := r.Body
	c := household.MemberChange{Name: b.Name, Role: (*access.Role)(b.Role), Password: b.Password, Disabled: b.Locked,
		Until: b.Until, Check: func(m store.Member) error {
			if match := r.Params.IfMatch; match != nil && *match != "*" && strings.Trim(*match, `"`) != memberVersion(m) {
				return errChanged
			}
			return nil
		}}
	if b.Endless != nil && *b.Endless {
		c.Until = &time.Time{}
	}
	if b.Factor != nil {
		off := false
		c.Factor = &off
	}
	m, err := h.s.people.ChangeMember(ctx, actor(ctx), r.Account, c)
	return ChangeMember200JSONResponse(h.member(m)), err
}

func (h *handlers) RemoveMember(ctx context.Context, r RemoveMemberRequestObject) (RemoveMemberResponseObject, error) {
	return RemoveMember204Response{}, h.s.people.RemoveMember(ctx, actor(ctx), r.Account)
}

func (h *handlers) ListJournal(ctx context.Context, r ListJournalRequestObject) (ListJournalResponseObject, error) {
	p := r.Params
	q := archive.JournalQuery{Limit: 100}
	set(&q.Object, p.Object)
	set(&q.Place, p.Place)
	set(&q.Actor, p.Actor)
	set(&q.Words, p.Q)
	set(&q.From, p.From)
	set(&q.To, p.To)
	set(&q.Before, p.Cursor)
	set(&q.Limit, p.Limit)
	list, next, err := h.s.archive.Journal(ctx, actor(ctx), q)
	if err != nil {
		return nil, err
	}
	out := ListJournal200JSONResponse{Entries: each(list, func(x store.Entry) JournalEntry {
		return JournalEntry{Id: x.ID, At: time.UnixMilli(x.At), Actor: x.ActorName, ActorKind: x.ActorKind, Source: x.Source,
			Action: x.Action, Object: x.Object, Before: x.Before, After: x.After, Reason: x.Reason, Kept: &x.Kept}
	})}
	if next > 0 {
		out.Next = &next
	}
	return out, nil
}

func (h *handlers) GetEarlier(ctx context.Context, r GetEarlierRequestObject) (GetEarlierResponseObject, error) {
	v, err := h.s.hub.Earlier(ctx, actor(ctx), r.Id)
	return GetEarlier200JSONResponse(v), err
}

func (h *handlers) RestoreEarlier(ctx context.Context, r RestoreEarlierRequestObject) (RestoreEarlierResponseObject,
	error) {
	return RestoreEarlier204Response{}, h.s.hub.Restore(ctx, actor(ctx), r.Id)
}
