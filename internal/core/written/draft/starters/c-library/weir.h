/* How many fish pass an hour. */
#ifndef WEIR_H
#define WEIR_H

/* weir_rate is the number of fish an hour, given a count and the minutes it took; 0 for no time. */
double weir_rate(unsigned count, unsigned minutes);

#endif
