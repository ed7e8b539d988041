start
sw lampwright --initiate --child depot
sw lampwright --rekey --child depot
sleep 2
save
