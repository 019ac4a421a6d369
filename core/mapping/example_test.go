package mapping_test

import (
	"fmt"

	"idleember/core/mapping"
	"idleember/core/site"
)

// A bought plug speaks as it likes; the mapping says where in that the values are.
func ExampleMap_Message() {
	s := (&site.Site{}).With(site.Put(site.Device{ID: "plug", Name: "Plug"}),
		site.Put(site.Signal{ID: "plug.power", Device: "plug", Kind: site.Number,
			Source: site.Source{Topic: "bought/plug7/report", Pointer: "/energy/power"}}))
	for _, f := range mapping.For(s, "plug").Message("bought/plug7/report", []byte(`{"energy":{"power":41.5}}`)) {
		fmt.Println(f.Entry.ID, f.Value, f.Err)
	}
	// Output:
	// plug.power 41.5 <nil>
}
