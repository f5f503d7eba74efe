// Package trigger holds the kinds of trigger, a file each, and the list of them.
package trigger

import (
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/setting"
)

// settings that several kinds have.
var (
	triggerName = setting.Setting{Name: "name", Label: "Name", Type: setting.Text}
	startsOff   = setting.Setting{Name: "input", Label: "Input schema", Type: setting.Part, Of: "schema", Help: "None: it begins with nothing"}
	startsAs    = setting.Setting{Name: "as", Label: "Input name", Type: setting.Text, Default: "input"}
)

// triggers is the one list of the kinds of trigger.
var triggers = []*compile.TriggerKind{File, Records, Mail, Schedule, Request, Operation, Message, Person, Called}

func init() { compile.RegisterTriggers(triggers) }
