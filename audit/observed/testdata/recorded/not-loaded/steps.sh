before lampwright
start
sw lampwright --initiate --child depot
traffic
save
