// Hod's connections offer HTTP/1.1 alone, so that undici never asks for this. Its own loads all of HTTP/2 at each start.
module.exports = () => {
  throw new Error('HTTP/2 is not offered');
};
