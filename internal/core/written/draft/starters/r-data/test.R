source("passings.R")
counts <- by_hour()
stopifnot(sum(counts$count) == 18, max(counts$count) == 7)
cat("the numbers hold\n")
