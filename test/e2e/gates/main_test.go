package gates

import (
	"os"
	"testing"

	"widelark/test/e2e/house"
)

func TestMain(m *testing.M) { os.Exit(house.Main(m)) }
