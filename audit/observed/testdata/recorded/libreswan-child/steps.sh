# libreswan
launch
w lampwright --asynchronous --initiate --name depot
sleep 3
save
