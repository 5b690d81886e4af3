package main

import "os"

// sizeChanged is nil: Windows tells of it otherwise.
var sizeChanged os.Signal
