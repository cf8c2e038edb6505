package link

import (
	"encoding/xml"
	"errors"
	"fmt"
	"strings"
)

// mostModules is how many YANG modules are fetched of one server.
const mostModules = 400

// ErrNoModules is why a server's YANG modules cannot be had.
var ErrNoModules = errors.New("the device does not show its YANG modules (RFC 6022 §3)")

// Modules fetches the YANG modules that a NETCONF server has, by name: what it lists,
// and get-schema shows (RFC 6022 §2.1.3, §3).
func (s *Session) Modules() (map[string]string, error) {
	n, ok := s.sp.(*netconf)
	if !ok || !n.can(ncMonitoring) {
		return nil, ErrNoModules
	}
	raw, err := n.rpc(`<get><filter type="subtree"><netconf-state xmlns="` + ncMonitoring + `"><schemas/></netconf-state></filter></get>`)
	if err != nil {
		return nil, fmt.Errorf("listing the YANG modules: %w", err)
	}
	var list struct {
		Schemas []struct {
			ID      string `xml:"identifier"`
			Version string `xml:"version"`
			Format  string `xml:"format"`
		} `xml:"data>netconf-state>schemas>schema"`
	}
	if err := xml.Unmarshal(raw, &list); err != nil {
		return nil, fmt.Errorf("listing the YANG modules: %w", err)
	}
	out := map[string]string{}
	for _, m := range list.Schemas {
		id, format := strings.TrimSpace(m.ID), strings.TrimSpace(m.Format)
		if _, known := out[id]; known || len(out) == mostModules || format != "yang" && !strings.HasSuffix(format, ":yang") {
			continue
		}
		raw, err := n.rpc(`<get-schema xmlns="` + ncMonitoring + `"><identifier>` + xmlText(id) + `</identifier><version>` + xmlText(strings.TrimSpace(m.Version)) + `</version><format>yang</format></get-schema>`)
		var refused *Refused
		if errors.As(err, &refused) {
			continue // listed, and not shown
		}
		if err != nil {
			return nil, fmt.Errorf("module %s: %w", id, err)
		}
		var reply struct {
			Data string `xml:"data"`
		}
		if err := xml.Unmarshal(raw, &reply); err != nil {
			return nil, fmt.Errorf("module %s: %w", id, err)
		}
		if out[id] = reply.Data; strings.TrimSpace(reply.Data) == "" {
			delete(out, id)
		}
	}
	if len(out) == 0 {
		return nil, ErrNoModules
	}
	return out, nil
}
