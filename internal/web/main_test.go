package web_test

import (
	"os"
	"testing"

	"hollowreed/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }
