package httpapi

import (
	"context"
	"errors"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/journal/query"
)

// public operations need no sign-in.
var anybody = []string{"getHealth", "signIn", "whoAmI", "signOut", "enrol", "beginPasskeySignIn", "signInByPasskey", "beginProviderSignIn", "signInByProvider", "makeFirstOwner"}

// operations are the others, each with the act that it carries out: a caller who may do it to nothing is refused at once. The store,
// which knows what the act is about, checks again: see [access.Check].
var operations = map[access.Act][]string{
	access.Read: {
		"getLists", "getList", "getEntries", "exportEntries", "findEntries", "getHistory", "compareList", "getFindings", "compareEntries", "explainEntries",
		"getSources", "getSource", "getUses", "getNetworks", "getNetwork", "getMachines", "getMachine",
		"getPolicies", "getPolicy", "getExceptions", "getException", "getApps", "getApp", "getEngines", "getEngine", "getGrants", "getAllSettings", "getSettings", "explainRules", "previewPage", "startPolicy", "getPlan",
		"getSchedules", "getSchedule", "explainSchedule", "exportSchedule", "readCalendar",
		"getCategories", "getCategorySites", "getCorrections", "exportCorrections", "getScorecards", "scoreText",
		"getPacks", "getPack", "getPackHistory", "getPackChanges", "getPackKeys",
		"getDraft", "getRemarks", "getPractices", "getDiff", "getEntryDiff", "getTurns", "getReview", "getRevisions",
		"getExpectations", "getExpectation", "runExpectations", "exportConfig", "planConfig", "getGates", "getZone", "getAuthorities",
	},
	access.ReadPeople:   {"getStints", "getPeople", "getPerson", "getGroups", "getGroup", "whoIs"},
	access.Try:          {"tryUrls", "compareTrials", "tryMatrix", "sweepTrials", "lookupUrls"},
	access.ReadJournal:  {"getLatestRecords", "searchJournal", "summarizeJournal", "completeQuery", "getRecord", "whyRecorded", "tailJournal", "exportJournal", "getSearches", "getSearch", "addSearch", "putSearch", "removeSearch", "makeReport", "makeReportFile"},
	access.ReadUse:      {"replay", "getAffected", "getEffects", "getSeen", "getUnrated", "findCompanions", "getCompanions", "getUsage", "getUnmetEntries", "getReports", "getReport", "getAlerts", "getAlert", "getIncidents"},
	access.SeeNames:     {"getPresences"},
	access.ReadRequests: {"getRequests", "getRequestGroups", "getRequestAdvice", "getRequestTimes", "getCodes"},
	access.Oversee:      {"getAccounts", "getClaims", "getDirectories", "getDirectory", "getDirectoryHistory", "getDirectoryChanges", "getForwards", "getForward"},
	access.Watch:        {"addReport", "putReport", "removeReport", "sendReport", "addAlert", "putAlert", "removeAlert", "testAlert", "acknowledgeIncident"},
	access.SendOn:       {"addForward", "putForward", "removeForward"},
	access.Erase:        {"erasePerson"},
	access.ReadAudit:    {"getAudit", "verifyAudit"},
	access.OwnAccount:   {"changePassword", "getSessions", "endSession", "getTokens", "createToken", "deleteToken", "getFactors", "beginCodes", "confirmCodes", "removeCodes", "beginPasskey", "addPasskey", "removePasskey"},
	access.Edit: {
		"createList", "editList", "deleteList", "addEntries", "editEntries", "copyEntries", "removeEntries", "importEntries", "rewriteList", "tidyList", "takeBack",
		"addPerson", "putPerson", "removePerson", "importPeople", "movePeople", "addGroup", "putGroup", "removeGroup", "addNetwork", "putNetwork", "removeNetwork",
		"addMachine", "putMachine", "removeMachine", "addPolicy", "putPolicy", "removePolicy", "addException", "putException", "removeException",
		"addApp", "putApp", "removeApp", "addEngine", "putEngine", "removeEngine", "putSettings", "createSchedule", "editSchedule", "deleteSchedule",
		"createCategory", "editCategory", "deleteCategory", "correct", "removeCorrection", "createScorecard", "editScorecard", "deleteScorecard",
		"keepGrant", "addExpectation", "putExpectation", "removeExpectation", "discard", "applyConfig", "neverOpen",
	},
	access.Remark:          {"addRemark", "endRemark"},
	access.Practices:       {"putPractices", "putDeskMail"},
	access.Fill:            {"setSource", "removeSource", "pullSource"},
	access.Publish:         {"publish", "makeLiveAgain", "unplan"},
	access.Grant:           {"addGrant", "endGrant"},
	access.Steer:           {"getSteering", "previewStint", "startStint", "endStint", "takeOverStint", "setDone", "addOwnList", "putOwnList", "removeOwnList"},
	access.Answer:          {"grantRequest", "grantRequests", "refuseRequest", "refuseRequests"},
	access.Codes:           {"addCode", "endCode", "endPassage"},
	access.Presences:       {"setPresence", "endPresence"},
	access.Accept:          {"acceptFinding", "unacceptFinding"},
	access.Record:          {"addRecorded", "addSeen"},
	access.EditPacks:       {"createPack", "editPack", "deletePack", "importPack", "pullPack", "acceptPack", "refusePack", "undoPack"},
	access.TrustKeys:       {"trustKey", "distrustKey"},
	access.EditDirectories: {"addDirectory", "editDirectory", "removeDirectory", "syncDirectory", "previewDirectory", "importDirectory", "acceptDirectory", "refuseDirectory", "undoDirectory", "adoptDirectory", "makeDirectoryToken", "endDirectoryToken"},
	access.Authorities:     {"makeAuthority"},
	access.Enrol:           {"enrolGate", "retireGate"},
	access.Obey: {
		"followGate", "getEdition", "fetchParts", "handInRecords", "reportGate", "handInMinutes", "whoseAtGate", "signInAtGate", "arriveAtGate", "leaveAtGate", "passAtGate", "askAtGate", "askedAtGate",
	},
	access.Accounts: {"addAccount", "putRoles", "removeAccount", "resetPassword", "putClaim", "removeClaim", "setPersonPassword", "removePersonPassword", "setPersonDNS", "removePersonDNS"},
}

var actOf = func() map[string]access.Act {
	acts := map[string]access.Act{}
	for act, ids := range operations {
		for _, id := range ids {
			if _, twice := acts[id]; twice {
				panic("bug: the operation " + id + " is two acts")
			}
			acts[id] = act
		}
	}
	return acts
}()

type callerKey struct{}

// caller returns the account of the request. Precondition: the operation is not public.
func caller(ctx context.Context) account.Account {
	a, ok := ctx.Value(callerKey{}).(account.Account)
	if !ok {
		panic("bug: a request without an account got past the sign-in")
	}
	return a
}

// actor returns the actor of the request. Precondition: the operation is not public.
func actor(ctx context.Context) access.Actor { return caller(ctx).Actor() }

// view returns what the caller may see of the journal.
func view(ctx context.Context) query.View { return query.ViewOf(caller(ctx).Roles) }

// admitted passes on requests of callers who may carry out the operation. An operation that is in no table is refused to everybody.
func (s *server) admitted(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		id := ctx.Operation().OperationID
		if slices.Contains(anybody, id) {
			next(ctx)
			return
		}
		if actOf[id] == access.Obey {
			s.admitGate(api, ctx, next)
			return
		}
		who, err := s.identify(ctx.Context(), ctx.Header("Authorization"))
		if err == nil {
			err = access.Begin(who.Actor(), who.Roles, actOf[id])
		}
		switch {
		case err == nil:
			next(huma.WithValue(ctx, callerKey{}, who))
		case errors.Is(err, account.ErrUnknown):
			ctx.SetHeader("WWW-Authenticate", `Bearer realm="Wide Lark"`)
			_ = huma.WriteErr(api, ctx, http.StatusUnauthorized, unknownCaller)
		default:
			status, detail := s.refusal(ctx.Context(), err)
			_ = huma.WriteErr(api, ctx, status, detail)
		}
	}
}
