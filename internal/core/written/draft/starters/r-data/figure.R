source("passings.R")
suppressMessages(library(ggplot2))
plot <- ggplot(by_hour(), aes(hour, count)) + geom_col() + labs(title = "Passings by hour")
ggsave("passings.png", plot, width = 6, height = 4, dpi = 80)
