package locator

import (
	"crypto/sha256"
	"strings"
)

var (
	manners = strings.Fields(`amber brisk calm clear cool deep dim early even fair fleet gentle grey hazel keen late light
		lively low mild misty mossy narrow pale patient plain quick quiet ready rippling rusty shady silver slow smooth
		steady still swift tidal upper`)
	places = strings.Fields(`alder bank beck bend bridge brook cove current dam eddy fen ferry ford gravel heron inlet
		islet ladder lock marsh meadow mill moor otter pebble pool pond rapids redgill reed ripple rush sedge shoal sluice
		spring stream wader weir willow`)
)

// Name makes up a name of two words, as "misty-sedge", from a text: the same name
// for the same text. try tells further names for it apart.
func Name(text string, try int) string {
	sum := sha256.Sum256([]byte{byte(try)})
	sum = sha256.Sum256(append(sum[:], text...))
	return manners[int(sum[0])%len(manners)] + "-" + places[int(sum[1])%len(places)]
}
