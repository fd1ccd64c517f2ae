package service_test

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/service"
	"proudsieve/service/access"
	identities "proudsieve/service/provider"
	"proudsieve/service/provider/standin"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// browser is one that keeps cookies and goes where it is led, without a look at pages.
func browser(t *testing.T) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &http.Client{Jar: jar, Timeout: 20 * time.Second}
}

// ledTo goes to an address, and says where one ends.
func ledTo(t *testing.T, b *http.Client, address string) (path string) {
	t.Helper()
	response, err := b.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	return response.Request.URL.RequestURI()
}

// whoIs says who is signed in.
func whoIs(t *testing.T, b *http.Client, r *servicetest.Running) string {
	t.Helper()
	response, err := b.Get(r.URL + "/api/v1/me")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	raw, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

func withProvider(t *testing.T) (*servicetest.Running, *standin.Provider) {
	t.Helper()
	p, err := standin.Start("proud-sieve", "between us")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	r := servicetest.Start(t, func(o *service.Options) {
		o.Provider = &identities.Settings{Title: "the survey office", Issuer: p.URL, Client: p.Client, Secret: p.Secret,
			Roles:    map[string]access.Role{"stewards": access.Steward, "readers": access.Reader, "office": access.Administrator, "highgarth": access.Steward, "walkers of samples": access.Reader},
			Datasets: map[string][]string{"highgarth": {"samples", "not_there_yet"}, "walkers of samples": {"samples", "survey"}}}
	})
	return r, p
}

func TestPeopleComeInByAProvider(t *testing.T) {
	t.Parallel()
	r, p := withProvider(t)
	anna := map[string]any{"sub": "anna-1", "preferred_username": "Anna Reed", "groups": []string{"walkers", "readers", "stewards"}}
	p.Comes(anna, nil)
	b := browser(t)
	if at := ledTo(t, b, r.URL+"/api/v1/sign-in?to=/issues"); at != "/issues" {
		t.Fatalf("one ends at %s", at)
	}
	if who := whoIs(t, b, r); !strings.Contains(who, `"Anna Reed"`) || !strings.Contains(who, `"steward"`) {
		t.Errorf("who is signed in is %s", who)
	}
	// Their groups say each time what they may do.
	anna["groups"] = "readers"
	if ledTo(t, b, r.URL+"/api/v1/sign-in"); !strings.Contains(whoIs(t, b, r), `"reader"`) {
		t.Errorf("after a change of groups: %s", whoIs(t, b, r))
	}
	people, err := r.Admin.ListPeople(ctx)
	if err != nil || len(*people) != 5 {
		t.Errorf("%+v, %v", people, err)
	}
	if _, err := r.Admin.SetRights(ctx, "Anna Reed", records.Confinement{Confined: true, Rights: []records.DatasetRight{}}); err != nil {
		t.Fatal(err)
	}
	if ledTo(t, b, r.URL+"/api/v1/sign-in"); !strings.Contains(whoIs(t, b, r), `"confined":true`) {
		t.Errorf("who is confined comes in as %s", whoIs(t, b, r))
	}
}

func TestWhoDoesNotComeInIsToldWhy(t *testing.T) {
	t.Parallel()
	r, p := withProvider(t)
	claims := func(change func(map[string]any)) map[string]any {
		c := map[string]any{"sub": "otto-1", "name": "Otto Hale", "groups": []any{"stewards"}}
		if change != nil {
			change(c)
		}
		return c
	}
	refusedAs := func(name, want string, person map[string]any, change func(map[string]any)) {
		t.Helper()
		p.Comes(person, change)
		b := browser(t)
		if at := ledTo(t, b, r.URL+"/api/v1/sign-in"); at != "/?refused="+want {
			t.Errorf("%s: one ends at %s", name, at)
		}
		if who := whoIs(t, b, r); !strings.Contains(who, "401") {
			t.Errorf("%s: %s", name, who)
		}
	}
	refusedAs("not let in there", "denied", nil, nil)
	refusedAs("no group", "groups", claims(func(c map[string]any) { delete(c, "groups") }), nil)
	refusedAs("another group", "groups", claims(func(c map[string]any) { c["groups"] = []any{"walkers", 7} }), nil)
	refusedAs("no name", "failed", claims(func(c map[string]any) { c["name"] = " \u200b " }), nil)
	refusedAs("the name of somebody else", "taken", claims(func(c map[string]any) { c["name"] = "Mara" }), nil)
	refusedAs("for another service", "failed", claims(nil), func(c map[string]any) { c["aud"] = "another" })
	refusedAs("of another provider", "failed", claims(nil), func(c map[string]any) { c["iss"] = "https://elsewhere.example" })
	refusedAs("of another sign-in", "failed", claims(nil), func(c map[string]any) { c["nonce"] = "another" })
	refusedAs("no longer good", "failed", claims(nil), func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() })
	people, err := r.Admin.ListPeople(ctx)
	if err != nil || len(*people) != 4 {
		t.Fatalf("%+v, %v", people, err)
	}
	p.Comes(claims(nil), nil)
	if at := ledTo(t, browser(t), r.URL+"/api/v1/sign-in"); at != "/" {
		t.Fatalf("one ends at %s", at)
	}
	if _, err := r.Admin.ChangePerson(ctx, "Otto Hale", client.ChangeBody{Disabled: true}); err != nil {
		t.Fatal(err)
	}
	refusedAs("kept out", "kept-out", claims(nil), nil)
	if _, err := r.Admin.ChangePerson(ctx, "Otto Hale", client.ChangeBody{}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Admin.SetRights(ctx, "Otto Hale", records.Confinement{Confined: true, Rights: []records.DatasetRight{}}); err != nil {
		t.Fatal(err)
	}
	refusedAs("confined, and an administrator", "confined", claims(func(c map[string]any) { c["groups"] = "office" }), nil)
	// Somebody who came in by tokens is linked by an administrator, and nobody else.
	mara := claims(func(c map[string]any) { c["sub"], c["name"] = "mara-7", "Mara" })
	_, err = r.Steward.LinkPerson(ctx, "Mara", client.LinkingBody{Subject: p.URL + " mara-7"})
	refused(t, "linking oneself", err, http.StatusForbidden, "")
	if _, err := r.Admin.LinkPerson(ctx, "Mara", client.LinkingBody{Subject: p.URL + " mara-7"}); err != nil {
		t.Fatal(err)
	}
	_, err = r.Admin.LinkPerson(ctx, "Ines", client.LinkingBody{Subject: p.URL + " mara-7"})
	refused(t, "linking two", err, http.StatusConflict, "")
	p.Comes(mara, nil)
	b := browser(t)
	if ledTo(t, b, r.URL+"/api/v1/sign-in"); !strings.Contains(whoIs(t, b, r), `"Mara"`) {
		t.Errorf("who is linked comes in as %s", whoIs(t, b, r))
	}
}

// What goes with the browser is good once, in that browser, and leads nowhere else.
func TestASignInCannotBeTakenOver(t *testing.T) {
	t.Parallel()
	r, p := withProvider(t)
	p.Comes(map[string]any{"sub": "anna-1", "name": "Anna Reed", "groups": "stewards"}, nil)
	stop := func(b *http.Client) *http.Client {
		b.CheckRedirect = func(next *http.Request, _ []*http.Request) error {
			if strings.HasPrefix(next.URL.Path, "/api/v1/sign-in/done") {
				return http.ErrUseLastResponse
			}
			return nil
		}
		return b
	}
	hers := stop(browser(t))
	response, err := hers.Get(r.URL + "/api/v1/sign-in")
	if err != nil {
		t.Fatal(err)
	}
	_ = response.Body.Close()
	back := response.Header.Get("Location")
	if !strings.Contains(back, "code=") {
		t.Fatalf("the provider leads to %s", back)
	}
	for name, b := range map[string]*http.Client{"another browser": browser(t), "another browser that has begun itself": func() *http.Client {
		b := stop(browser(t))
		response, err := b.Get(r.URL + "/api/v1/sign-in")
		if err != nil {
			t.Fatal(err)
		}
		_ = response.Body.Close()
		b.CheckRedirect = nil
		return b
	}()} {
		if at := ledTo(t, b, back); at != "/?refused=stale" {
			t.Errorf("%s: one ends at %s", name, at)
		}
	}
	u, _ := url.Parse(r.URL + "/api/v1/sign-in/done")
	forged := browser(t)
	forged.Jar.SetCookies(u, []*http.Cookie{{Name: "proudsieve_sign_in", Value: "eyJzIjoiYSJ9.AAAA", Path: "/api/v1/sign-in"}})
	if at := ledTo(t, forged, r.URL+"/api/v1/sign-in/done?state=a&code=b"); at != "/?refused=stale" {
		t.Errorf("forged: one ends at %s", at)
	}
	hers.CheckRedirect = nil
	if at := ledTo(t, hers, back); at != "/" {
		t.Errorf("she ends at %s", at)
	}
	if at := ledTo(t, hers, back); at != "/?refused=stale" {
		t.Errorf("once more, she ends at %s", at)
	}
	for _, to := range []string{"https://elsewhere.example/", "//elsewhere.example", "/\\elsewhere.example", "javascript:alert(1)", "elsewhere", "/a\r\nX: y"} {
		if at := ledTo(t, browser(t), r.URL+"/api/v1/sign-in?to="+url.QueryEscape(to)); at != "/" {
			t.Errorf("%q leads to %s", to, at)
		}
	}
}

func TestAProviderThatIsNotThereIsSaid(t *testing.T) {
	t.Parallel()
	r, p := withProvider(t)
	p.Close()
	if at := ledTo(t, browser(t), r.URL+"/api/v1/sign-in"); at != "/?refused=failed" {
		t.Errorf("one ends at %s", at)
	}
	without := servicetest.Start(t, nil)
	response, body := send(t, http.MethodGet, without.URL+"/api/v1/sign-in", "", "")
	if response.StatusCode != http.StatusNotFound || !strings.Contains(body, "tokens alone") {
		t.Errorf("%d %s", response.StatusCode, body)
	}
	for name, wrong := range map[string]identities.Settings{
		"is no address":    {Issuer: "http://id.example", Client: "a", Roles: map[string]access.Role{"a": access.Reader}},
		"by some name":     {Issuer: "https://id.example", Roles: map[string]access.Role{"a": access.Reader}},
		"lets anybody":     {Issuer: "https://id.example", Client: "a"},
		"for all datasets": {Issuer: "https://id.example", Client: "a", Roles: map[string]access.Role{"a": access.Administrator}, Datasets: map[string][]string{"a": {"samples"}}},
		"has no role":      {Issuer: "https://id.example", Client: "a", Roles: map[string]access.Role{"a": "king"}},
	} {
		if err := wrong.Check(); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Groups may be for some datasets alone, and say so anew with each sign-in.
func TestGroupsLetInForDatasets(t *testing.T) {
	t.Parallel()
	r, p := withProvider(t)
	declare(t, r.Steward, "rulebooks", book)
	declare(t, r.Steward, "rulebooks", "dataset: survey\ncolumns:\n  - {name: sample}\n")
	declare(t, r.Steward, "rulebooks", "dataset: others\ncolumns:\n  - {name: sample}\n")
	claims := map[string]any{"sub": "vera-1", "name": "Vera Moss"}
	p.Comes(claims, nil)
	b := browser(t)
	comes := func(groups ...string) (me, rights string) {
		t.Helper()
		claims["groups"] = groups
		if at := ledTo(t, b, r.URL+"/api/v1/sign-in"); at != "/" {
			t.Fatalf("%v end at %s", groups, at)
		}
		has, err := r.Admin.ShowRights(ctx, "Vera Moss")
		if err != nil {
			t.Fatal(err)
		}
		for _, one := range has.Rights {
			rights += one.Dataset + " " + one.May + ";"
		}
		return whoIs(t, b, r), rights
	}
	sees := func() (names string) {
		t.Helper()
		response, err := b.Get(r.URL + "/api/v1/datasets")
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		raw, err := io.ReadAll(response.Body)
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range []string{"others", "samples", "survey"} {
			if strings.Contains(string(raw), `"`+name+`"`) {
				names += name + " "
			}
		}
		return names
	}
	if me, rights := comes("highgarth", "walkers of samples"); rights != "samples work;survey read;" || !strings.Contains(me, `"confined":true`) || !strings.Contains(me, `"steward"`) || sees() != "samples survey " {
		t.Errorf("%s, %s, %s", me, rights, sees())
	}
	if me, rights := comes("walkers of samples"); rights != "samples read;survey read;" || !strings.Contains(me, `"reader"`) {
		t.Errorf("%s, %s", me, rights)
	}
	if me, rights := comes("walkers of samples", "stewards"); rights != "" || !strings.Contains(me, `"confined":false`) || sees() != "others samples survey " {
		t.Errorf("who is in a group for all datasets too: %s, %s", me, rights)
	}
	if me, _ := comes("highgarth"); !strings.Contains(me, `"confined":true`) || sees() != "samples " {
		t.Errorf("%s, %s", me, sees())
	}
	if me, _ := comes("office"); !strings.Contains(me, `"administrator"`) || !strings.Contains(me, `"confined":false`) {
		t.Errorf("who becomes an administrator: %s", me)
	}
	// What an administrator said outlives groups that say nothing of datasets.
	if comes("readers"); sees() != "others samples survey " {
		t.Errorf("%s", sees())
	}
	if _, err := r.Admin.SetRights(ctx, "Vera Moss", records.Confinement{Confined: true, Rights: []records.DatasetRight{}}); err != nil {
		t.Fatal(err)
	}
	if me, _ := comes("readers"); !strings.Contains(me, `"confined":true`) || sees() != "" {
		t.Errorf("%s, %s", me, sees())
	}
}

// In the demo one chooses who one is, and types the word of whoever runs it.
func TestTheProviderOfTheDemoAsksForItsWord(t *testing.T) {
	t.Parallel()
	r, p := withProvider(t)
	p.Offer([]map[string]any{{"sub": "a", "name": "Nora Finch", "groups": []string{"stewards"}}, {"sub": "b", "name": "Lena Brook", "groups": []string{"readers"}}}, "sesame")
	b := browser(t)
	response, err := b.Get(r.URL + "/api/v1/sign-in?to=/issues")
	if err != nil {
		t.Fatal(err)
	}
	_ = response.Body.Close()
	at := response.Request.URL.String()
	if !strings.HasPrefix(at, p.URL) {
		t.Fatalf("one is led to %s", at)
	}
	for word, ends := range map[string]string{"open": "/authorize", "": "/authorize"} {
		response, err := b.PostForm(at, url.Values{"as": {"1"}, "word": {word}})
		if err != nil {
			t.Fatal(err)
		}
		_ = response.Body.Close()
		if !strings.HasPrefix(response.Request.URL.Path, ends) {
			t.Errorf("with %q one ends at %s", word, response.Request.URL)
		}
	}
	if response, err = b.PostForm(at, url.Values{"as": {"1"}, "word": {"sesame"}}); err != nil {
		t.Fatal(err)
	}
	_ = response.Body.Close()
	if who := whoIs(t, b, r); response.Request.URL.RequestURI() != "/issues" || !strings.Contains(who, "Lena Brook") || !strings.Contains(who, `"reader"`) {
		t.Errorf("%s, %s", response.Request.URL, who)
	}
}

// The last administrator stays one, whatever the groups say; once there is another, they count.
func TestTheLastAdministratorStaysOne(t *testing.T) {
	t.Parallel()
	r, p := withProvider(t)
	if _, err := r.Admin.LinkPerson(ctx, "administrator", client.LinkingBody{Subject: p.URL + " first"}); err != nil {
		t.Fatal(err)
	}
	p.Comes(map[string]any{"sub": "first", "name": "administrator", "groups": "readers"}, nil)
	b := browser(t)
	if ledTo(t, b, r.URL+"/api/v1/sign-in"); !strings.Contains(whoIs(t, b, r), `"administrator","rights"`) {
		t.Errorf("the last one comes in as %s", whoIs(t, b, r))
	}
	if _, err := r.Admin.AddPerson(ctx, client.NewPersonBody{Name: "Rolf", Role: "administrator"}); err != nil {
		t.Fatal(err)
	}
	if ledTo(t, b, r.URL+"/api/v1/sign-in"); !strings.Contains(whoIs(t, b, r), `"reader","rights"`) {
		t.Errorf("one of two comes in as %s", whoIs(t, b, r))
	}
}
