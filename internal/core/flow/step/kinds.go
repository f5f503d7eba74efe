// Package step holds the kinds of step, a file each, and the list of them: the settings, what it can do, how it is compiled and
// what it does with records.
package step

import "hollowreed/internal/core/flow/compile"

// kinds is the one list of the kinds of step.
var kinds = []*compile.Kind{
	readKind, eachKind, chooseKind, atOnceKind, attemptKind, keepKind, onceKind, gatherKind, cachedKind,
	mapKind, setKind, tallyKind, checkKind, parseKind, formatKind, templateKind, packKind, sealKind, openKind, lookUpKind, changeKind,
	outside(findKind), outside(upsertKind), outside(callKind), outside(writeKind),
	flowKind, answerKind, waitKind, deliverKind, awaitKind, noteKind, referenceKind, stopKind,
}

func init() { compile.Register(kinds) }
