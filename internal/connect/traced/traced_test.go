package traced

import (
	"context"
	"path/filepath"
	"reflect"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
)

type taker struct{}

func (taker) Active() bool           { return true }
func (taker) Take(connect.Operation) {}

// Every call of a traced connector that has a context hands the tracer on: none of them is
// only that of the connector within.
func TestTracedHandsOn(t *testing.T) {
	contract, own := reflect.TypeFor[connect.Connector](), reflect.TypeFor[traced]()
	handed := 0
	for i := range contract.NumMethod() {
		m := contract.Method(i)
		if m.Type.NumIn() == 0 || m.Type.In(0) != reflect.TypeFor[context.Context]() {
			continue
		}
		method, _ := own.MethodByName(m.Name)
		file, _ := runtime.FuncForPC(method.Func.Pointer()).FileLine(method.Func.Pointer())
		assert.Equal(t, "traced.go", filepath.Base(file), "%s does not hand it on", m.Name)
		handed++
	}
	assert.Greater(t, handed, 20)
	assert.False(t, connect.TraceOf(context.Background()).On())
	assert.True(t, connect.TraceOf(traced{tracer: taker{}}.with(context.Background())).On())
}
