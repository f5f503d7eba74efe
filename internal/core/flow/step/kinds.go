// Package step holds the kinds of step, a file each, and the list of them: the settings, what it can do, how it is compiled and
// what it does with records.
package step

import "hollowreed/internal/core/flow/compile"

// kinds is the one list of the kinds of step.
var kinds = []*compile.Kind{
	readKind, eachKind, chooseKind, parallelKind, tryKind, filterKind, deduplicateKind, aggregateKind, cacheKind,
	mapKind, setKind, accumulateKind, validateKind, parseKind, serializeKind, templateKind, encodeKind, encryptKind, decryptKind, lookUpKind, updateTableKind,
	outside(lookUpRowKind), outside(upsertKind), outside(callKind), outside(writeKind),
	runFlowKind, respondKind, waitKind, sendKind, publishKind, receiveKind, logKind, referenceKind, stopKind,
}

func init() { compile.Register(kinds) }
