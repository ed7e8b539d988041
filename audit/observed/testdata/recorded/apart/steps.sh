start
sw lampwright --initiate --child depot
traffic
keep lampwright list-sas.txt
sw lampwright --rekey --child depot
sleep 4
save
put lampwright list-sas.txt
: | file lampwright/xfrm-state.txt
: | file lampwright/xfrm-policy.txt
