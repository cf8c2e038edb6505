package grammar

import (
	"strings"
	"testing"
)

func TestReplaceXML(t *testing.T) {
	const nc = `xmlns:a="urn:ietf:params:xml:ns:netconf:base:1.0" a:operation=`
	for _, c := range []struct {
		name, target, current, wrap, under string
		merge                              bool
		want                               string
	}{
		{"replaced and deleted", `<s xmlns="u"><x>1</x></s>`, `<s xmlns="u"><x>2</x></s><t xmlns="v"><y/></t>`, "", "", false,
			`<s xmlns="u" ` + nc + `"replace"><x>1</x></s><t xmlns="v" ` + nc + `"delete"/>`},
		{"laid over", `<s xmlns="u"><x>1</x></s>`, `<t xmlns="v"/>`, "", "", true, `<s xmlns="u"><x>1</x></s>`},
		{"a container whose first leaf differs is no other one", `<s xmlns="u"><c>a</c></s>`, `<s xmlns="u"><c>b</c></s>`, "", "", false, `<s xmlns="u" ` + nc + `"replace"><c>a</c></s>`},
		{"entries of a list at the top", `<e xmlns="u"><k>1</k></e><e xmlns="u"><k>2</k></e>`, `<e xmlns="u"><k>2</k></e><e xmlns="u"><k>3</k><v>x</v></e>`, "", "", false,
			`<e xmlns="u" ` + nc + `"replace"><k>1</k></e><e xmlns="u" ` + nc + `"replace"><k>2</k></e><e xmlns="u" ` + nc + `"delete"><k>3</k></e>`},
		{"deeper in a document", `<p xmlns="w"/>`, ``, `<l xmlns="v"><e><n>g</n><root/></e></l>`, "l / e g / root", false,
			`<l xmlns="v"><e><n>g</n><root><p xmlns="w" ` + nc + `"replace"/></root></e></l>`},
	} {
		got, err := ReplaceXML(c.target, c.current, c.wrap, c.under, c.merge)
		flat := strings.NewReplacer("\n", "").Replace(got)
		for strings.Contains(flat, "> ") {
			flat = strings.ReplaceAll(flat, "> ", ">")
		}
		if err != nil || flat != c.want {
			t.Errorf("%s: %v\n%s\nwant\n%s", c.name, err, flat, c.want)
		}
	}
	if _, err := ReplaceXML("<a>", "", "", "", false); err == nil || !strings.Contains(err.Error(), "the document to be sent") {
		t.Errorf("%v", err)
	}
}
