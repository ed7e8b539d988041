start
sw lampwright --initiate --child depot
sw lampwright --initiate --child tools
traffic
save
