start
sw lampwright --initiate --child depot
save
