<template>
  <h1>Port of Sorrel Bay</h1>
  <p>
    Bookings and invoices of shipping agents. What you see, and which buttons you can use, follows what you may do; what you do is decided
    again by the portal’s own service.
  </p>
</template>
