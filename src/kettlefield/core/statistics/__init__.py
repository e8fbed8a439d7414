"""Statistics: intervals, paired comparison, power, trends, agreement, the Pareto frontier."""
