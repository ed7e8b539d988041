alone lampwright
sw lampwright --initiate --child depot
save
