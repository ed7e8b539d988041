start
sw lampwright --initiate --child depot
traffic
keep lampwright list-sas.txt
sw lampwright --rekey --child depot
logged lampwright 'CHILD_SA closed'
save
put lampwright list-sas.txt
: | file lampwright/xfrm-state.txt
: | file lampwright/xfrm-policy.txt
