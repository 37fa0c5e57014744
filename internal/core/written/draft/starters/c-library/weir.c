#include "weir.h"

double weir_rate(unsigned count, unsigned minutes) {
    return minutes == 0 ? 0 : 60.0 * count / minutes;
}
