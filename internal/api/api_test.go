package api

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"
)

// TestEveryRouteIsDescribed, and everything described is there.
func TestEveryRouteIsDescribed(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(Spec)
	if err != nil {
		t.Fatal(err)
	}
	var described, served []string
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			described = append(described, method+" "+path)
			if op.Summary == "" {
				t.Errorf("%s %s has no summary", method, path)
			}
		}
	}
	param := regexp.MustCompile(`:(\w+)`)
	for _, r := range (&Server{}).Handler().(*gin.Engine).Routes() {
		if path, ok := strings.CutPrefix(r.Path, "/api/v1"); ok {
			served = append(served, r.Method+" "+param.ReplaceAllString(path, "{$1}"))
		}
	}
	slices.Sort(described)
	slices.Sort(served)
	for _, r := range served {
		if !slices.Contains(described, r) {
			t.Errorf("%s is not described", r)
		}
	}
	for _, r := range described {
		if !slices.Contains(served, r) {
			t.Errorf("%s is described and not there", r)
		}
	}
}

func TestPasswords(t *testing.T) {
	hash := HashPassword("open the bow doors")
	if !strings.HasPrefix(hash, "$argon2id$v=19$m=19456,t=2,p=1$") || strings.Contains(hash, "bow") {
		t.Errorf("hashed as %s", hash)
	}
	if !passwordFits(hash, "open the bow doors") || passwordFits(hash, "open the bow door") {
		t.Error("the wrong one fits, or the right one does not")
	}
	if HashPassword("x") == HashPassword("x") {
		t.Error("there is no salt")
	}
	for _, bad := range []string{"", "$argon2id$", "$argon2id$v=19$m=1,t=1,p=1$!$!", strings.Replace(hash, "v=19", "v=x", 1)} {
		if passwordFits(bad, "") {
			t.Errorf("%q lets in", bad)
		}
	}
}

// TestGuessingGetsSlower and a success forgives.
func TestGuessingGetsSlower(t *testing.T) {
	s := &Server{tries: map[string]*attempts{}}
	for range 4 {
		s.tried("k", false)
	}
	if s.slow("k") > 0 {
		t.Error("four slips are punished")
	}
	s.tried("k", false)
	first := s.slow("k")
	for range 20 {
		s.tried("k", false)
	}
	if most := s.slow("k"); first <= 0 || most <= first || most.Minutes() > 5.1 {
		t.Errorf("waits of %s and %s", first, most)
	}
	if s.slow("other") > 0 {
		t.Error("somebody else has to wait too")
	}
	s.tried("k", true)
	if s.slow("k") > 0 {
		t.Error("a success does not forgive")
	}
}
