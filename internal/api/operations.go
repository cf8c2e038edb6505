package api

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/fleet"
	"magpie/internal/history"
	"magpie/internal/job"
	"magpie/internal/push"
	"magpie/internal/read"
	"magpie/internal/routine"
	"magpie/internal/visit"
)

// nobody is the role of operations that nobody has to be signed in for.
const nobody = "nobody"

// route is one operation: who may, and what does it. Routes, what of a request is
// refused, and the OpenAPI description come from it.
type route struct {
	method, path, role string
	do                 gin.HandlerFunc
	about
}

// about is what an operation says of itself.
type about struct {
	id     string // by which programs call it
	tag    string // what it belongs to
	does   string // in a few words
	more   string // in more
	query  []param
	takes  any    // a value of its body's type; nil: it has none
	as     string // the body's media type, where that is not JSON
	gives  any    // a value of its answer's type; nil: it has none
	mime   string // the answer's media type, where that is not JSON
	status int    // of the answer; 0: 200
	once   bool   // it takes an Idempotency-Key
	match  bool   // it takes If-Match
	scoped bool   // also for who has its role for some devices only: it looks whether these are theirs
	first  bool   // also for who has to choose a password of their own first
	stream int64  // the body is read as it comes, up to so many bytes; 0: whole, as all are
	loose  bool   // others write its query, too, and may say more than is asked
}

// param is one word of an operation's query.
type param struct {
	name, kind string // kind: string, integer or boolean
	must       bool
	does       string
}

// pages tells whether the answer is a page of a list.
func (a about) pages() bool {
	p, ok := a.gives.(interface{ Pages() bool })
	return ok && p.Pages()
}

// params are all words that may stand in the query.
func (r route) params() []param {
	if r.method != "GET" || !r.pages() {
		return r.query
	}
	return append(slices.Clone(r.query), param{"cursor", "string", false, "next of the page before"}, param{"limit", "integer", false, "how many at most, up to 1000"})
}

// asked refuses a query that holds words the operation knows nothing of. What was
// called otherwise before is given the name that it has now.
func (r route) asked(c *gin.Context) {
	var known []string
	for _, p := range r.params() {
		known = append(known, p.name)
	}
	q, err := url.ParseQuery(c.Request.URL.RawQuery) // Query() drops what it cannot read
	if err != nil {
		fail(c, bad("the query cannot be read: "+err.Error(), "encode its values (RFC 3986 §2.1)"))
		return
	}
	for word, values := range q {
		if i := slices.Index(known, word); i >= 0 {
			if p := r.params()[i]; !p.sound(values) {
				fail(c, wrong(word, fmt.Sprintf("%s is %s", word, strings.Join(values, " and ")), p.wants()))
				return
			}
			continue
		}
		if r.loose {
			continue
		}
		next := ref.Meant(word, known)
		if next == "" && len(known) > 0 {
			next = "there are " + strings.Join(known, ", ")
		}
		fail(c, wrong(word, fmt.Sprintf("the query holds %q, of which this knows nothing", word), next))
		return
	}
}

// sound tells whether a word of the query is said once, and what it may be. Nothing is guessed: a switch
// that is 1 or yes is neither on nor off.
func (p param) sound(values []string) bool {
	if len(values) != 1 || p.name == "selector" && strings.TrimSpace(values[0]) == "" { // nothing is not everything
		return false
	}
	switch v := values[0]; p.kind {
	case "boolean":
		return v == "true" || v == "false" || v == ""
	case "integer":
		_, err := strconv.Atoi(v)
		return v == "" || err == nil
	}
	return true
}

// wants says what a word of the query may be.
func (p param) wants() string {
	switch p.kind {
	case "boolean":
		return "say it once: true or false"
	case "integer":
		return "say it once: a whole number"
	}
	if p.name == "selector" {
		return "say it once: words that pick devices, or all"
	}
	return "say it once"
}

// Kinds are the kinds of jobs that this program knows.
func Kinds() []job.Kind {
	return slices.Concat(visit.Kinds(nil), push.Kinds(nil), fleet.Kinds(nil), read.Kinds(nil), routine.Kinds(nil), history.Kinds(nil))
}

// kinds are the kinds of jobs that the service has registered.
func (s *Server) kinds() []job.Kind {
	if s.Jobs == nil {
		return Kinds()
	}
	return s.Jobs.Kinds()
}

// decisions are the operations by which a person says a word to a job that waits:
// those that the kinds of jobs name.
func (s *Server) decisions(kinds []job.Kind) (out []route) {
	for _, w := range job.Words(kinds) {
		a := about{id: w.Say + "Job", scoped: true, tag: "jobs", does: w.Does, gives: client.Job{}}
		if w.Sees {
			a.query = []param{{"preview", "string", false, "what was looked at before that was said"}}
		}
		out = append(out, route{"POST", "/jobs/:id/" + w.Say, core.Operator, s.decide(w.Say), a})
	}
	return out
}

// routes are all operations of the API, where these kinds of jobs are known.
func (s *Server) routes(kinds []job.Kind) []route {
	const reader, operator, admin = core.Reader, core.Operator, core.Admin
	return slices.Concat([]route{
		{"POST", "/login", nobody, s.login, about{id: "login", tag: "sessions", does: "Sign in and get a token", takes: client.Login{}, gives: client.Granted{}}},
		{"POST", "/session", nobody, s.openSession, about{id: "openSession", tag: "sessions", does: "Sign in and get a cookie", takes: client.Login{}, gives: client.Granted{}}},
		{"GET", "/sign-on", nobody, s.signOn, about{id: "getSignOn", tag: "sessions", does: "Who else signs people in", gives: client.SignOn{}}},
		{"GET", "/sign-on/start", nobody, s.startSignOn, about{id: "startSignOn", tag: "sessions", does: "Go to the provider to sign in (OpenID Connect, code flow with PKCE)", more: "For browsers.", query: []param{{"to", "string", false, "the page to come back to"}}, status: 303}},
		{"GET", "/sign-on/back", nobody, s.endSignOn, about{id: "endSignOn", tag: "sessions", does: "Come back from the provider, signed in", more: "For browsers; the answer sets the cookie of a session.", loose: true, query: []param{{"code", "string", false, ""}, {"state", "string", false, ""}, {"iss", "string", false, ""}, {"error", "string", false, ""}, {"error_description", "string", false, ""}}, status: 303}},
		{"DELETE", "/session", reader, s.closeSession, about{id: "closeSession", tag: "sessions", does: "Sign out", status: 204, first: true}},
		{"GET", "/me", reader, s.me, about{id: "getMe", tag: "sessions", does: "Who is signed in", gives: client.Me{}, first: true}},
		{"GET", "/status", reader, s.status, about{id: "getStatus", tag: "service", does: "How the fleet and the service are", gives: client.Status{}}},
		{"GET", "/events", reader, s.watch, about{id: "watch", tag: "service", does: "Be told what is written, by any instance: server-sent events named touched, each a list of Touched; what they name is to be asked for again", mime: "text/event-stream", gives: []client.Touched{}}},
		{"GET", "/sessions", reader, s.sessions, about{id: "listSessions", tag: "sessions", does: "The browsers that are signed in, newest first: your own; for an admin everybody's", gives: client.Page[client.Session]{}}},
		{"DELETE", "/sessions", reader, s.endOthers, about{id: "endSessions", tag: "sessions", does: "End all your sessions but the one that asks", more: "With user an admin ends all of theirs.", query: []param{{"user", "string", false, ""}}, status: 204}},
		{"DELETE", "/sessions/:id", reader, s.endSession, about{id: "endSession", tag: "sessions", does: "End a session: your own; for an admin anybody's", status: 204}},
		{"GET", "/tokens", reader, s.tokens, about{id: "listTokens", tag: "sessions", does: "Your tokens", gives: client.Page[client.Token]{}}},
		{"DELETE", "/tokens/:id", reader, s.dropToken, about{id: "removeToken", tag: "sessions", does: "End one of your tokens", status: 204}},
		{"GET", "/devices", reader, s.devices, about{id: "listDevices", tag: "devices", does: "List devices", query: []param{{"selector", "string", false, "words like site=skerrinsay tag=core name=quay-*, separated by blanks"}}, gives: client.Page[client.Device]{}}},
		{"GET", "/devices/:name", reader, s.device, about{id: "getDevice", tag: "devices", does: "One device", gives: client.Device{}}},
		{"GET", "/devices/:name/versions", reader, s.versions, about{id: "listVersions", tag: "versions", does: "A part's versions, newest first", query: []param{{"part", "string", false, "running when left out"}}, gives: client.Page[client.Version]{}}},
		{"POST", "/devices", admin, s.addDevice, about{id: "addDevice", tag: "devices", does: "Add a device", takes: client.NewDevice{}, status: 201, gives: client.Device{}}},
		{"PATCH", "/devices/:name", admin, s.editDevice, about{id: "editDevice", tag: "devices", does: "Change a device", match: true, takes: client.NewDevice{}, gives: client.Device{}}},
		{"DELETE", "/devices/:name", admin, s.removeDevice, about{id: "removeDevice", tag: "devices", does: "Take a device out; its versions stay", status: 204}},
		{"GET", "/removed-devices", reader, s.removedDevices, about{id: "listRemovedDevices", tag: "devices", does: "Devices that were taken out, and whose versions are here still", more: "Their versions are listed, shown, compared and exported by these names.", gives: client.Page[client.RemovedDevice]{}}},
		{"POST", "/removed-devices/:name/reinstate", admin, s.reinstate, about{id: "reinstateDevice", tag: "devices", does: "Bring a device that was taken out back, with its history", takes: client.Reinstate{}, gives: client.Device{}}},
		{"POST", "/devices/:name/retry-login", operator, s.retryLogin, about{id: "retryLogin", scoped: true, tag: "devices", does: "Let a refused login be tried again", gives: client.Device{}}},
		{"POST", "/probe", operator, s.probe, about{id: "probeAddress", tag: "devices", does: "Ask an address for its host key; nobody signs in", takes: client.Reach{}, gives: client.Probe{}}},
		{"POST", "/try", admin, s.try, about{id: "tryDevice", tag: "devices", does: "Sign in to a device that is not saved yet, ask who it is, and fetch its parts", more: "Nothing is kept; a refused login counts as one attempt.", takes: client.NewDevice{}, gives: client.Tried{}}},
		{"GET", "/devices-export", reader, s.exportDevices, about{id: "exportDevices", tag: "devices", does: "Write devices as a file that the import reads", more: "Logins stay here.", query: []param{{"selector", "string", false, "words like site=skerrinsay tag=core name=quay-*, separated by blanks"}, {"as", "string", false, "csv, if not said, or yaml"}}, mime: "text/csv", gives: ""}},
		{"POST", "/devices-import", admin, s.importDevices, about{id: "importDevices", tag: "devices", does: "Add many devices, and change those that are there", more: "All, or none; with skip_bad those that are right. What is wrong is listed by row. A file that is read twice changes nothing the second time.", takes: client.NewDevices{}, gives: client.Imported{}}},
		{"POST", "/tags", admin, s.tag, about{id: "tagDevices", tag: "devices", does: "Put tags on many devices, or take them off", more: "On all of them, or on none. The answer lists those that are otherwise now.", takes: client.NewTags{}, gives: client.Page[client.Device]{}}},
		{"POST", "/baselines", operator, s.baselines, about{id: "setBaselines", tag: "versions", does: "Approve a version of each of many devices", more: "Of their main parts. Devices that have no such version are left as they are, and listed.", takes: client.NewBaselines{}, gives: client.Baselined{}}},
		{"GET", "/credentials", reader, s.credentials, about{id: "listCredentialSets", tag: "credentials", does: "List the credential sets", gives: client.Page[client.CredentialSet]{}}},
		{"POST", "/credentials", admin, s.addCredential, about{id: "addCredentialSet", tag: "credentials", does: "Make a credential set", takes: client.NewCredentialSet{}, status: 201, gives: client.CredentialSet{}}},
		{"PATCH", "/credentials/:name", admin, s.editCredential, about{id: "editCredentialSet", tag: "credentials", does: "Change a credential set, for all devices that use it at once", more: "A new login is tried again everywhere.", match: true, takes: client.NewCredentialSet{}, gives: client.CredentialSet{}}},
		{"DELETE", "/credentials/:name", admin, s.removeCredential, about{id: "removeCredentialSet", tag: "credentials", does: "Delete a credential set that no device uses", status: 204}},
		{"POST", "/credentials/:name/attach", admin, s.attachCredential, about{id: "attachCredentialSet", tag: "credentials", does: "Give devices a set instead of what they had", takes: client.NewPull{}, gives: client.CredentialSet{}}},
		{"POST", "/credentials/:name/retry", operator, s.retryCredential, about{id: "retryCredentialSet", tag: "credentials", does: "Let a set be tried again, everywhere", gives: client.CredentialSet{}}},
		{"GET", "/version", reader, s.version, about{id: "getVersion", tag: "versions", does: "A version with its text", query: []param{{"ref", "string", true, "DEVICE[/PART]@WHICH; WHICH is a number, a name, latest, previous, baseline, live or a time"}, {"masked", "boolean", false, "with its secrets masked, whoever asks"}}, gives: client.Text{}}},
		{"GET", "/version/text", reader, s.versionText, about{id: "getVersionText", tag: "versions", does: "The text alone", query: []param{{"ref", "string", true, "DEVICE[/PART]@WHICH; WHICH is a number, a name, latest, previous, baseline, live or a time"}}, mime: "text/plain, application/xml, application/json, application/octet-stream", gives: ""}},
		{"PATCH", "/version", operator, s.mark, about{id: "markVersion", scoped: true, tag: "versions", does: "Name, note, pin a version, or make it the baseline", query: []param{{"ref", "string", true, "DEVICE[/PART]@WHICH; WHICH is a number, a name, latest, previous, baseline, live or a time"}}, takes: client.Mark{}, gives: client.Version{}}},
		{"DELETE", "/version", admin, s.removeVersion, about{id: "removeVersion", tag: "versions", does: "Delete one version for good", more: "Its copies leave the targets, but for those that keep what is deleted here, Git targets and backups. What is named, pinned, a baseline, in a snapshot, the newest or needed by a push stays.", query: []param{{"ref", "string", true, "DEVICE[/PART]@NUMBER"}, {"reason", "string", true, "why; the audit log keeps it"}}, gives: client.RemovedVersion{}}},
		{"POST", "/versions", operator, s.edit, about{id: "addVersion", tag: "versions", does: "Keep a text made of a version as another version", more: "Takes the right to see secrets. It counts for nothing until it is pushed; the version it was made of stays.", takes: client.NewVersion{}, status: 201, gives: client.Version{}}},
		{"GET", "/diff", reader, s.diff, about{id: "compareVersions", tag: "versions", does: "Compare two versions", query: []param{{"from", "string", true, "a version reference"}, {"to", "string", true, "a version reference"}, {"context", "integer", false, "unchanged lines around each change, 3 when left out"}, {"all", "boolean", false, "also lines that change by themselves"}, {"masked", "boolean", false, "with secrets masked, whoever asks"}}, gives: client.Diff{}}},
		{"GET", "/changes", reader, s.changes, about{id: "listChanges", tag: "versions", does: "List the versions that were taken in a span of time, of all devices, newest first", query: []param{{"selector", "string", false, "words like site=skerrinsay tag=core name=quay-*, separated by blanks"}, {"since", "string", false, "a time; a week ago when left out, or ever where something is looked for"}, {"until", "string", false, "a time; now when left out"},
			{"find", "string", false, "words that all stand in the name, the note, the author, who pulled it, the serial number or the release"}, {"name", "string", false, "a pattern of names, with * and ?"}, {"note", "string", false, "what stands in the note"}, {"by", "string", false, "who changed the device, or had it pulled"}, {"reason", "string", false, "why it was pulled; several separated by commas"}, {"serial", "string", false, "of the unit"}, {"release", "string", false, "that the unit ran, as a pattern"}, {"part", "string", false, ""}}, gives: client.Page[client.Version]{}}},
		{"POST", "/pulls", operator, s.pull, about{id: "pullDevices", scoped: true, tag: "jobs", does: "Pull devices", once: true, takes: client.NewPull{}, status: 202, gives: client.Page[client.Job]{}}},
		{"POST", "/checks", operator, s.check, about{id: "makeChecks", scoped: true, tag: "pushes", does: "Make checks by themselves, and compare them with an earlier look", more: "What comes of them is the result of the job.", once: true, takes: client.NewCheck{}, status: 202, gives: client.Job{}}},
		{"POST", "/previews", operator, s.newPreview, about{id: "makePreview", scoped: true, tag: "pushes", does: "Work out what a push would do", once: true, takes: client.NewPreview{}, status: 202, gives: client.Job{}}},
		{"GET", "/previews/:id", reader, s.preview, about{id: "getPreview", tag: "pushes", does: "A preview", gives: client.Preview{}}},
		{"POST", "/pushes", operator, s.push, about{id: "pushPreview", scoped: true, tag: "pushes", does: "Push what a preview shows", once: true, takes: client.NewPush{}, status: 202, gives: client.Job{}}},
		{"GET", "/jobs", reader, s.jobs, about{id: "listJobs", tag: "jobs", does: "List jobs, newest first", query: []param{{"state", "string", false, "states"}, {"kind", "string", false, "kinds"}, {"device", "string", false, ""}, {"part_of", "string", false, "the job that began them"}, {"outcome", "string", false, "outcomes"}, {"actor", "string", false, "who asked for them"}, {"since", "string", false, "asked for then or later"}, {"until", "string", false, "asked for then or before"}, {"selector", "string", false, "of these devices, words separated by blanks"}}, gives: client.Page[client.Job]{}}},
		{"POST", "/jobs", operator, s.ask, about{id: "askJob", tag: "jobs", does: "Ask for a job by its kind's name", more: "For kinds that /job-kinds says can be asked for so; others have operations of their own.", once: true, takes: client.NewJob{}, status: 202, gives: client.Job{}}},
		{"GET", "/job-kinds", reader, s.jobKinds, about{id: "listJobKinds", tag: "jobs", does: "List the kinds of jobs, and what they can wait for", gives: client.Page[client.JobKind]{}}},
		{"GET", "/devices/:name/swaps", reader, s.swaps, about{id: "listSwaps", tag: "devices", does: "List the hardware that took a device's place, newest first", gives: client.Page[client.Swap]{}}},
		{"GET", "/jobs/:id", reader, s.job, about{id: "getJob", tag: "jobs", does: "One job", gives: client.Job{}}},
		{"GET", "/jobs/:id/log", reader, s.log, about{id: "listJobLog", tag: "jobs", does: "A job's log", query: []param{{"after", "integer", false, "only entries after this number"}}, gives: client.Page[client.Entry]{}}},
		{"GET", "/jobs/:id/events", reader, s.events, about{id: "followJob", tag: "jobs", does: "Follow a job: server-sent events named log (an Entry) and job (a Job), until it has ended. Last-Event-ID is the number of the last entry seen", mime: "text/event-stream", gives: ""}},
		{"POST", "/restore-previews", operator, s.restorePreview, about{id: "makeRestorePreview", scoped: true, tag: "pushes", does: "Look what putting many devices back would take", more: "Nothing is touched; the job, once done, holds a row for each device.", once: true, takes: client.NewRestorePreview{}, status: 202, gives: client.Job{}}},
		{"POST", "/restores", operator, s.restore, about{id: "restoreDevices", scoped: true, tag: "pushes", does: "Push what a restore preview shows", more: "The first device alone, then a few at a time; devices that others hang on come last. Confirm or undo all that wait at /jobs/{id}/confirm and /jobs/{id}/undo.", once: true, takes: client.NewRestore{}, status: 202, gives: client.Job{}}},
		{"POST", "/jobs/:id/cancel", operator, s.cancel, about{id: "cancelJob", scoped: true, tag: "jobs", does: "Ask a job to stop", gives: client.Job{}}},
		{"POST", "/jobs/:id/repeat", operator, s.repeat, about{id: "repeatJob", scoped: true, tag: "jobs", does: "Ask for a job like an earlier one", more: "For kinds that /job-kinds says repeat; what sends something has to be looked at anew.", once: true, takes: client.NewRun{}, status: 202, gives: client.Job{}}},
		{"POST", "/restore-tests", operator, s.restoreTest, about{id: "testRestore", tag: "pushes", does: "Try a version out on another device of its family", more: "The version is put on the other device and proved; then what ran there before is put back.", once: true, takes: client.NewRestoreTest{}, status: 202, gives: client.Job{}}},
		{"GET", "/bootstrap-sheet", operator, s.sheet, about{id: "getBootstrapSheet", tag: "pushes", does: "What a person types at a unit's console so that the service can reach it", more: "With secrets it takes the right to see them, and is written to the audit log.", query: []param{{"ref", "string", true, ""}, {"secrets", "boolean", false, ""}}, gives: client.BootstrapSheet{}}},
		{"GET", "/relays", reader, s.relays, about{id: "listRelays", tag: "relays", does: "List the machines that lend their network reach, newest first", gives: client.Page[client.Relay]{}}},
		{"GET", "/relay", operator, s.openRelay, about{id: "openRelay", tag: "relays", does: "Lend this machine's network reach to the pushes of one device", more: "The request offers to upgrade to magpie-relay (RFC 9110 §7.8) and shows an SSH host key in Magpie-Relay-Key. After 101 the roles are turned around: the service is the SSH client on the connection, and opens direct-tcpip channels (RFC 4254 §7.2) to the addresses in Magpie-Relay-Reach.", query: []param{{"device", "string", true, ""}, {"at", "string", false, "Where the unit is, HOST or HOST:PORT."}, {"for", "string", true, "How long at most, like 30m; from 1m to 12h."}}, status: 101}},
		{"DELETE", "/relays/:id", operator, s.closeRelay, about{id: "closeRelay", tag: "relays", does: "Close a relay", more: "One's own; an admin closes anybody's.", status: 204}},
		{"GET", "/snapshots", reader, s.snapshots, about{id: "listSnapshots", tag: "snapshots", does: "List named sets of versions, newest first", gives: client.Page[client.Snapshot]{}}},
		{"GET", "/snapshots/:name", reader, s.snapshot, about{id: "getSnapshot", tag: "snapshots", does: "A named set with its versions", gives: client.Snapshot{}}},
		{"POST", "/file-diff", reader, s.fileDiff, about{id: "compareFile", tag: "versions", does: "Compare a version with a file from a disk", more: "The file is read as the version is, and nothing of it is kept. It takes the right to see secrets: by comparing with texts of one's own they could be guessed.", takes: client.NewFileDiff{}, gives: client.Diff{}}},
		{"GET", "/snapshot-diff", reader, s.snapshotDiff, about{id: "compareSnapshots", tag: "snapshots", does: "Compare a snapshot with another, or with a time, or with now", more: "Which parts differ, and by how many lines. Of two times: of all devices.", query: []param{{"from", "string", true, "a snapshot's name, or a time"}, {"to", "string", false, "a snapshot's name, a time, or now, if not said"}}, gives: client.MomentDiff{}}},
		{"POST", "/snapshots", operator, s.addSnapshot, about{id: "addSnapshot", scoped: true, tag: "snapshots", does: "Name a set of versions", more: "One version of each part of the devices, as they were last pulled, or as they were at a time.", takes: client.NewSnapshot{}, status: 201, gives: client.Snapshot{}}},
		{"DELETE", "/snapshots/:name", operator, s.removeSnapshot, about{id: "removeSnapshot", tag: "snapshots", does: "Forget a set; its versions stay", status: 204}},
		{"GET", "/schedules", reader, s.schedules, about{id: "listSchedules", tag: "schedules", does: "List what is done by itself, by name", gives: client.Page[client.Schedule]{}}},
		{"GET", "/schedules/:name", reader, s.schedule, about{id: "getSchedule", tag: "schedules", does: "One schedule, what it will do and what it did", gives: client.Schedule{}}},
		{"POST", "/schedules", operator, s.addSchedule, about{id: "addSchedule", tag: "schedules", does: "Have something done by itself, time after time", more: "The answer is the schedule as it was kept: the next times that it is due, what happens when clocks change, and which others do the same.", takes: client.NewSchedule{}, status: 201, gives: client.Schedule{}}},
		{"POST", "/schedules/check", operator, s.checkSchedule, about{id: "checkSchedule", tag: "schedules", does: "Say what a schedule would do, and keep nothing", query: []param{{"was", "string", false, "its name, if it is there already"}}, takes: client.NewSchedule{}, gives: client.Schedule{}}},
		{"PUT", "/schedules/:name", operator, s.editSchedule, about{id: "editSchedule", tag: "schedules", does: "Put another schedule in the place of one", takes: client.NewSchedule{}, gives: client.Schedule{}}},
		{"DELETE", "/schedules/:name", operator, s.removeSchedule, about{id: "removeSchedule", tag: "schedules", does: "Forget a schedule; what it did stays", status: 204}},
		{"POST", "/schedules/:name/run", operator, s.runSchedule, about{id: "runSchedule", tag: "schedules", does: "Have a schedule done now, besides when it is due", once: true, takes: client.NewRun{}, status: 202, gives: client.Job{}}},
		{"POST", "/schedules/:name/pause", operator, s.pauseSchedule(true), about{id: "pauseSchedule", tag: "schedules", does: "Let a schedule not be due any more", gives: client.Schedule{}}},
		{"POST", "/schedules/:name/resume", operator, s.pauseSchedule(false), about{id: "resumeSchedule", tag: "schedules", does: "Let a schedule be due again; what was left out meanwhile is not made up", gives: client.Schedule{}}},
		{"POST", "/change-triggers", operator, s.notices, about{id: "notice", scoped: true, tag: "schedules", does: "Say that devices were changed", more: "They are pulled once nothing more was said of them for half a minute, after five minutes at the latest.", takes: client.NewNotice{}, status: 204}},
		{"GET", "/agenda", reader, s.agenda, about{id: "listAgenda", tag: "schedules", does: "List when schedules were due and will be, in order of time", query: []param{{"from", "string", false, "a time; a day ago if not said"}, {"until", "string", false, "a time; in a week if not said"}}, gives: client.Page[client.AgendaItem]{}}},
		{"GET", "/approvals", reader, s.approvals, about{id: "listApprovals", tag: "pushes", does: "List the devices to which nobody pushes alone", gives: client.Page[client.Approval]{}}},
		{"POST", "/approvals", admin, s.addApproval, about{id: "addApproval", tag: "pushes", does: "Ask for a second person", more: "Pushes to these devices are planned, and begin when somebody else has approved them.", takes: client.NewApproval{}, status: 201, gives: client.Approval{}}},
		{"DELETE", "/approvals/:id", admin, s.removeApproval, about{id: "removeApproval", tag: "pushes", does: "Ask for a second person no longer", status: 204}},
		{"GET", "/dialects", reader, s.dialects, about{id: "listDialects", tag: "dialects", does: "List dialects", gives: client.Page[client.Dialect]{}}},
		{"GET", "/dialects/:name", reader, s.dialect, about{id: "getDialect", tag: "dialects", does: "One dialect with its source", gives: client.Dialect{}}},
		{"POST", "/dialect-check", operator, s.checkDialect, about{id: "checkDialect", tag: "dialects", does: "Check a dialect file", query: []param{{"name", "string", false, "what to call the file in messages"}}, as: "application/yaml", takes: "", gives: client.Page[client.DialectProblem]{}}},
		{"GET", "/dialect-schema", reader, s.dialectSchema, about{id: "getDialectSchema", tag: "dialects", does: "The JSON Schema of dialect files", mime: "application/schema+json", gives: ""}},
		{"POST", "/dialects", admin, s.loadDialect, about{id: "loadDialect", tag: "dialects", does: "Take a dialect file into use, on every instance", more: "The body is the file.", query: []param{{"name", "string", false, "The file's name, for what is said of it."}}, as: "application/yaml", takes: "", gives: client.Dialect{}}},
		{"POST", "/dialects/:name/learn", admin, s.learn, about{id: "learnDialect", tag: "dialects", does: "Draft the rules of a dialect", more: "From versions that devices have shown, from logs of typed sessions, and, where that is allowed, from experiments on a device that nobody needs: each line is said before it is typed, each experiment is undone, and what ran before is proved to run again. The draft says what was seen and what is not known.", once: true, takes: client.NewLearn{}, status: 202, gives: client.Job{}}},
		{"POST", "/dialect-try", admin, s.tryDialect, about{id: "tryDialect", tag: "dialects", does: "Run a dialect file against a live device", more: "Changes nothing beyond what the dialect lists, and keeps nothing.", takes: client.DialectTrial{}, gives: client.DialectTried{}}},
		{"GET", "/users", admin, s.users, about{id: "listUsers", tag: "users", does: "List users", gives: client.Page[client.User]{}}},
		{"POST", "/users", admin, s.addUser, about{id: "addUser", tag: "users", does: "Add a user", takes: client.NewUser{}, status: 201, gives: client.User{}}},
		{"PATCH", "/users/:name", admin, s.editUser, about{id: "editUser", tag: "users", does: "Change a user", match: true, takes: client.NewUser{}, gives: client.User{}}},
		{"GET", "/audit", admin, s.audit, about{id: "listAudit", tag: "audit", does: "The audit log, newest first", query: []param{{"about", "string", false, "to whom or what: a device with all its versions, a user, a set"}, {"actor", "string", false, "who"}, {"since", "string", false, "a time"}}, gives: client.Page[client.AuditEntry]{}}},
		{"GET", "/audit-check", admin, s.checkAudit, about{id: "checkAudit", tag: "audit", does: "Prove that the audit log is as it was written", query: []param{{"end", "string", false, "a row's number and code, as kept elsewhere, like 1204:9f3c…: tells of a database that was put back to an earlier state"}}, gives: client.AuditCheck{}}},
	}, s.tellingRoutes(), s.ownRoutes(), s.sweepRoutes(), s.retentionRoutes(), s.exportRoutes(), s.targetRoutes(), s.movingRoutes(), s.searchRoutes(), s.driftRoutes(), s.searchesRoutes(), s.decisions(kinds))
}
