package labfile

import (
	"encoding/json"
	"maps"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheSchemaHasWhatAFileHas(t *testing.T) {
	raw, err := os.ReadFile("../../../docs/labs.schema.json")
	require.NoError(t, err)
	type properties struct{ Properties map[string]any }
	var schema struct {
		Properties struct {
			Labs struct {
				Items struct {
					OneOf []struct {
						Properties struct {
							Kind     struct{ Const string }
							Commands properties
							Session  properties
						}
					}
				}
			}
		}
		Defs map[string]properties `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(raw, &schema))
	var plain struct {
		Properties struct {
			Labs struct {
				Items struct{ OneOf []properties }
			}
		}
	}
	require.NoError(t, json.Unmarshal(raw, &plain))
	keys := func(m map[string]any) []string { return slices.Sorted(maps.Keys(m)) }
	require.Len(t, schema.Properties.Labs.Items.OneOf, len(Kinds), "one for each kind")
	for i, one := range schema.Properties.Labs.Items.OneOf {
		kind := one.Properties.Kind.Const
		assert.ElementsMatch(t, append([]string{"name", "kind"}, keysOf[kind]...), keys(plain.Properties.Labs.Items.OneOf[i].Properties), kind)
		if kind == WebDriver {
			assert.ElementsMatch(t, commandNames(), keys(one.Properties.Commands.Properties))
			assert.ElementsMatch(t, []string{"capabilities", "pages", "within", "told", "page", "keep_alive", "busy"}, keys(one.Properties.Session.Properties))
		}
	}
	assert.ElementsMatch(t, startableKeys, keys(schema.Defs["startable"].Properties))
	assert.ElementsMatch(t, requestKeys, keys(schema.Defs["request"].Properties))
	assert.ElementsMatch(t, uploadKeys, keys(schema.Defs["upload"].Properties))
}
