start
sw lampwright --initiate --child depot
sw lampwright --rekey --child depot
logged lampwright 'CHILD_SA rekeying failed'
save
