//go:build !linux

package worker

import "errors"

func limit() error { return errors.New("scripts need Linux") }
