package main

import "fmt"

func main() {
	var bridge, mast, passes, waits int
	fmt.Scan(&bridge)
	for {
		if n, _ := fmt.Scan(&mast); n != 1 {
			break
		}
		if mast+@@spare@@ @@edge.op@@ bridge {
			passes++
		} else {
			waits++
		}
	}
	fmt.Println(passes, waits)
}
