#include "weir.h"

#include <stdio.h>

static int failed;

static void is(const char *what, double got, double want) {
    if (got != want) {
        fprintf(stderr, "%s is %g, not %g\n", what, got, want);
        failed = 1;
    }
}

int main(void) {
    is("the rate of 10 in 30 minutes", weir_rate(10, 30), 20);
    is("the rate in no time", weir_rate(10, 0), 0);
    return failed;
}
