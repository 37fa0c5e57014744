# The passings of a day, by hour.
by_hour <- function(path = "data/passings.csv") {
  aggregate(count ~ hour, read.csv(path), sum)
}
