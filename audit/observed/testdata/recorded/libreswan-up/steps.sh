# libreswan
launch
w lampwright --initiate --name depot
traffic
save
