package picture_test

import (
	"fmt"

	"idleember/core/picture"
)

// A drawing keeps its shapes and loses what could run or ask elsewhere.
func ExampleClean() {
	p, err := picture.Clean([]byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 40 20"><script>alert(1)</script><rect width="4" height="2"/></svg>`))
	fmt.Println(p.Type, p.Width, p.Height, err)
	fmt.Println(string(p.Body))
	// Output:
	// image/svg+xml 40 20 <nil>
	// <svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 40 20"><rect width="4" height="2"></rect></svg>
}
